// Every robot of a class as a card: its state, its driver, its reasons; and one stop for all.

import { element, words } from "/static/inputs.js";

const LOOKS = { driving: "driving", "not enabled": "waiting", "waiting for rest": "waiting", gone: "none", silent: "none" };

export class Class {
  constructor(place, say) {
    this.place = place;
    this.say = say;
    this.cards = new Map();
  }

  show(robots, mayStop) {
    this.place.hidden = false;
    this.place.querySelector("p").hidden = robots.length > 0;
    for (const robot of robots) {
      const card = this.cards.get(robot.id) ?? this.make(robot.id);
      card.title.textContent = robot.name;
      card.box.setAttribute("aria-label", words(robot.name));
      card.stop.setAttribute("aria-label", `emergency stop of ${robot.name}`);
      card.box.dataset.state = LOOKS[robot.state] ?? "stopped";
      card.state.textContent = robot.state;
      card.driver.textContent = robot.state === "gone" ? "" : robot.driver ? `driven by ${robot.driver}` : "nobody drives it";
      card.moves.textContent = robot.moves;
      const asked = robot.asked ? [robot.asked] : [];
      const why = [...asked, ...robot.why].join("; ");
      if (card.why.textContent !== why) card.why.textContent = why;
      card.stop.hidden = !mayStop || robot.state === "gone";
      this.link(card.page, robot);
    }
  }

  // A page that only its own machine may open has no link elsewhere.
  link(page, robot) {
    const here = ["localhost", "127.0.0.1", "[::1]"].includes(location.hostname);
    page.hidden = !(robot.port && (robot.lan || here));
    const href = `${robot.lan ? "https" : "http"}://${location.hostname}:${robot.port}/`;
    if (!page.hidden && page.getAttribute("href") !== href) page.setAttribute("href", href);
  }

  make(id) {
    const box = element("article", {});
    const card = { box };
    for (const [key, tag] of [["title", "h2"], ["state", "strong"], ["driver", "span"], ["moves", "span"], ["why", "p"]]) {
      card[key] = element(tag, {});
      box.append(card[key]);
    }
    card.state.setAttribute("role", "status");
    card.stop = element("button", { type: "button" });
    card.stop.textContent = "Stop this one";
    card.stop.addEventListener("click", () => this.say({ type: "emergency", text: id }));
    card.page = element("a", { target: "_blank", rel: "noopener" });
    card.page.textContent = "Open its page";
    const row = element("div", { class: "row" });
    row.append(card.stop, card.page);
    box.append(row);
    this.place.querySelector("div").append(box);
    this.cards.set(id, card);
    return card;
  }
}
