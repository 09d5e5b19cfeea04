// Draws the ticks of the robot: state, reasons, vehicle, path, controls, actuators, link, and the last 30 seconds.

import { element, words } from "/static/inputs.js";
import { Charts } from "/static/charts.js";
import { Path, Vehicle } from "/static/drawing.js";

const place = (id) => document.getElementById(id);
const SIGNS = { driving: "▶", waiting: "❚❚", stopped: "■", none: "…" };
const LOOKS = {
  driving: "driving", stopping: "stopped", fault: "stopped", "emergency stop": "stopped",
  "waiting for rest": "waiting", "not enabled": "waiting",
};

export class View {
  constructor() {
    this.facts = null;
    this.vehicle = new Vehicle(place("vehicle"));
    this.path = new Path(place("path"));
    this.charts = new Charts(place("charts"));
    this.drawnAt = this.turn = 0;
  }

  robot(facts) {
    this.facts = facts;
    document.title = `${facts.title} — Tenuto`;
    place("title").textContent = facts.title;
    place("origin").textContent = facts.origin;
    this.vehicle.make(facts);
    this.path.make(facts);
    this.charts.make(facts);
    place("actuators").tBodies[0].replaceChildren();
    place("controls").tBodies[0].replaceChildren();
  }

  state(word, look) {
    const band = place("state");
    if (band.dataset.word !== word) {
      Object.assign(band.dataset, { word, state: look });
      band.querySelector(".sign").textContent = SIGNS[look];
      band.querySelector(".word").textContent = word;
    }
  }

  // Nothing is driven: the sticks are watched, or measured.
  device() {
    place("title").textContent = "Sticks";
    this.state("sticks only", "none");
    const text = "Press Drive from here and move the sticks: the terminal at the robot shows their numbers.";
    list(place("reasons"), [{ class: "", sign: "", text, todo: "" }]);
  }

  disconnected(why) {
    this.state("not connected", "none");
    list(place("reasons"), [{ class: "", sign: "•", text: why, todo: "the page tries again; without it the robot stops by itself, and somebody must press Drive from here again" }]);
  }

  tick(tick, who) {
    if (!this.facts) return;
    const look = tick.state.endsWith("not followed") ? "stopped" : LOOKS[tick.guard] ?? "none";
    this.state(tick.state, look);
    if (this.path.whole) {
      this.path.pose = tick.pose;
      this.charts.at(tick.t);
      this.drawnAt = -1;
    } else {
      this.charts.add(tick);
      this.path.add(tick);
    }
    // Drawings change ten times a second at most; texts at once.
    this.reasons(tick);
    place("reset").hidden = tick.guard !== "emergency stop" || !(who.driver === who.you || !who.seat);
    if (tick.t - this.drawnAt < 0.09 && tick.t >= this.drawnAt) return;
    this.drawnAt = tick.t;
    this.vehicle.draw(tick);
    this.path.draw();
    if (this.turn++ % 3 === 0) this.charts.draw();
    this.moves(tick);
    this.controls(tick);
    this.actuators(tick);
    this.link(tick);
  }

  reasons(tick) {
    const told = tick.reasons.map(({ text, todo }) => ({ class: "", sign: "•", text, todo }));
    told.push(...tick.notices.map(({ text, todo }) => ({ class: "note", sign: "◦", text, todo })));
    told.push(...tick.actions.map((text) => ({ class: "", sign: "▸", text, todo: "" })));
    for (const check of tick.checks) {
      if (!check.good) told.push({ class: "", sign: "✗", text: `${check.name}: ${check.text}`, todo: check.todo });
    }
    const ready = tick.checks.filter((check) => check.good).map((check) => check.name);
    if (ready.length) told.push({ class: "good", sign: "✓", text: `ready: ${ready.join(", ")}`, todo: "" });
    if (!told.length) told.push({ class: "good", sign: "", text: "nothing prevents driving", todo: "" });
    list(place("reasons"), told);
    place("answer").textContent = tick.answer ?? "";
    place("steps").hidden = !tick.steps;
    if (tick.steps) {
      rows(place("steps").tBodies[0], tick.steps, ({ stage, text }, cells) => {
        cells[0].textContent = stage;
        cells[1].textContent = text;
      }, 2);
    }
  }

  // A log is shown: its whole path and speed are in the background.
  log({ path, times, speed }) {
    this.path.whole = path;
    this.charts.whole(times, speed);
  }

  moves(tick) {
    const { speed, turn } = this.facts.units;
    const [forward, backward, fastest] = this.facts.speeds[tick.chosen.mode] ?? [0, 0, 0];
    const { vx, vy, vz, yaw_rate } = tick.command;
    const most = vx < 0 ? backward : forward;
    const said = [`${shown(vx, speed)} of ${shown(most, speed, false)} ${speed.name} ahead`];
    said.push(`${shown(yaw_rate, turn)}${fastest ? ` of ${shown(fastest, turn, false)}` : ""} ${turn.name} left`);
    if (Math.abs(vy) > 0.004) said.push(`${shown(vy, speed)} ${speed.name} to the left`);
    if (Math.abs(vz) > 0.004) said.push(`${shown(vz, speed)} ${speed.name} up`);
    if (!tick.power) said.push("without power");
    place("moves").textContent = said.join("   ");
    const { mode, rates, steering, level } = tick.chosen;
    const chosen = [mode && `mode ${mode}`, rates && `rates ${rates}`, steering && `${steering} steering`,
      level !== 1 && `level ${Math.round(100 * level)} %`, tick.hands && `driver ${tick.driver}`];
    place("chosen").textContent = chosen.filter(Boolean).join(", ");
  }

  controls(tick) {
    rows(place("controls").tBodies[0], Object.entries(tick.controls), ([name, [raw, position, shaped]], cells) => {
      cells[0].textContent = words(name);
      cells[1].textContent = raw === null ? "no number" : Math.abs(raw) < 10 ? raw.toFixed(2) : raw.toFixed(0);
      cells[2].textContent = signed(position);
      cells[3].textContent = signed(shaped);
      bar(cells[4], shaped, 1);
    }, 5);
  }

  actuators(tick) {
    const { quantity_units, ends } = this.facts;
    rows(place("actuators").tBodies[0], Object.entries(tick.actuators), ([name, value], cells) => {
      cells[0].textContent = words(name);
      const unit = quantity_units[name] ?? { name: "", scale: 1 };
      cells[1].textContent = `${shown(value, unit)} ${unit.name}`;
      bar(cells[2], value, ends[name] ?? 0);
    }, 3);
  }

  link(tick) {
    const { age, counts, signal } = tick.link;
    const said = [age === null ? "nothing heard yet" : `newest frame ${Math.round(1000 * age)} ms old`];
    if (counts) said.push(`${counts[0]} frames, ${counts[2]} too late`);
    if (signal) said.push(`radio ${Math.round(signal[0])} %, ${Math.round(signal[1])} dBm`);
    if (tick.echo_ms !== undefined) said.push(`round trip ${tick.echo_ms} ms`);
    place("link").textContent = `link: ${said.join(", ")}`
      + (tick.rate ? `. loop: ${Math.round(tick.rate)} ticks/s, at most ${Math.round(1000 * tick.worst)} ms` : "");
    const outputs = Object.entries(tick.outputs).map(([name, level]) => `${words(name)} ${level}`);
    const far = Object.entries(tick.far).map(([name, { text }]) => `${name}: ${text}`);
    if (outputs.length) far.push(`outputs: ${outputs.join(", ")}`);
    list(place("far"), far.map((text) => ({ class: "", sign: "", text, todo: "" })));
  }

  who({ you, driver, there }, give) {
    const others = there.filter((one) => one.id !== you);
    place("who").replaceChildren(...others.map((one) => {
      const row = element("div", {});
      row.textContent = `${one.name} ${one.id === driver ? "drives" : "watches"}`;
      if (driver === you && one.may_drive) {
        const button = element("button", { type: "button" });
        button.textContent = "hand the robot over";
        button.addEventListener("click", () => give(one.id));
        row.append(button);
      }
      return row;
    }));
  }

  toast(text, word = "", act = null) {
    const box = place("toast");
    box.replaceChildren(text);
    if (act) {
      const button = element("button", { type: "button" });
      button.textContent = word;
      button.addEventListener("click", () => {
        box.hidden = true;
        act();
      });
      box.append(button);
    }
    box.hidden = false;
    clearTimeout(this.toasting);
    this.toasting = setTimeout(() => (box.hidden = true), 6000);
  }
}

const signed = (value) => (value < -0.004 ? "−" : "+") + Math.abs(value).toFixed(2);

function shown(value, unit, withSign = true) {
  const digits = unit.name.startsWith("%") || unit.scale > 10 ? 0 : 2;
  const number = Math.abs(value * unit.scale).toFixed(digits);
  if (!withSign) return number;
  return (value < 0 && Number(number) ? "−" : "+") + number;
}

// Put texts into a list, changing only what has changed: a screen reader must not read all of it again.
function list(place_, told) {
  while (place_.children.length > told.length) place_.lastChild.remove();
  while (place_.children.length < told.length) place_.append(element("li", {}));
  told.forEach((one, number) => {
    const row = place_.children[number];
    const text = `${one.sign} ${one.text}`.trim();
    if (row.dataset.text === text && row.dataset.todo === one.todo) return;
    Object.assign(row.dataset, { text, todo: one.todo });
    row.className = one.class;
    row.textContent = text;
    if (one.todo) {
      const todo = element("span", { class: "todo" });
      todo.textContent = `→ ${one.todo}`;
      row.append(todo);
    }
  });
}

function rows(body, entries, fill, columns) {
  while (body.rows.length > entries.length) body.lastChild.remove();
  while (body.rows.length < entries.length) {
    const row = body.insertRow();
    for (let column = 0; column < columns; column++) row.insertCell();
  }
  entries.forEach((entry, number) => fill(entry, body.rows[number].cells));
}

// A signed bar: its middle is 0, to the right is positive.
function bar(cell, value, end) {
  if (!cell.firstChild) {
    const made = element("span", { class: "bar", "aria-hidden": "true" });
    made.append(element("i", {}), element("b", {}));
    cell.append(made);
  }
  const fill = cell.firstChild.firstChild;
  const share = end > 0 ? Math.max(-1, Math.min(1, value / end)) : 0;
  fill.style.left = `${share < 0 ? 50 + 50 * share : 50}%`;
  fill.style.width = `${50 * Math.abs(share)}%`;
  fill.className = Math.abs(share) >= 1 ? "full" : "";
}
