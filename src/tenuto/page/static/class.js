// Every robot at a broker as a card: what it does, who drives it, why it stands; one stop for all.

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
      const card = this.cards.get(robot.name) ?? this.make(robot.name);
      card.box.dataset.state = LOOKS[robot.state] ?? "stopped";
      card.state.textContent = robot.state;
      card.driver.textContent = robot.driver ? `driven by ${robot.driver}` : "nobody drives it";
      const turn = Math.round((robot.turn * 180) / Math.PI);
      card.moves.textContent = robot.state === "gone" || robot.state === "silent" ? ""
        : `${robot.speed.toFixed(2)} m/s${turn ? `, ${Math.abs(turn)} deg/s to the ${turn > 0 ? "left" : "right"}` : ""}`;
      const asked = robot.asked ? ["asked to stop; it has not confirmed yet"] : [];
      const why = [...asked, ...robot.why].join("; ");
      if (card.why.textContent !== why) card.why.textContent = why;
      card.stop.hidden = !mayStop;
    }
  }

  make(name) {
    const box = element("article", { "aria-label": words(name) });
    const card = { box };
    for (const [key, tag] of [["title", "h2"], ["state", "strong"], ["driver", "span"], ["moves", "span"], ["why", "p"]]) {
      card[key] = element(tag, {});
      box.append(card[key]);
    }
    card.title.textContent = name;
    card.state.setAttribute("role", "status");
    card.stop = element("button", { type: "button", "aria-label": `emergency stop of ${name}` });
    card.stop.textContent = "Stop this one";
    card.stop.addEventListener("click", () => this.say({ type: "emergency", text: name }));
    box.append(card.stop);
    this.place.querySelector("div").append(box);
    this.cards.set(name, card);
    return card;
  }
}
