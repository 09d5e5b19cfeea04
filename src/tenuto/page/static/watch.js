// The raw numbers of a controller: each control, its range so far, and the one that moved.

import { element } from "/static/inputs.js";

export class Watch {
  constructor(place, answer) {
    this.place = place;
    this.answer = answer;
    this.rows = new Map();
  }

  show({ source, link, good, rate, moved, controls, step, prompt, left, done, findings, verdicts, choices, question }) {
    this.place.hidden = false;
    const lead = this.place.querySelector("#lead");
    lead.hidden = !prompt;
    if (prompt) {
      lead.dataset.step = step;
      const said = this.place.querySelector("#prompt");
      if (said.dataset.prompt !== prompt) Object.assign(said.dataset, { prompt });
      said.textContent = left === undefined ? prompt : `${prompt} ${left} s`;
    }
    const list = this.place.querySelector("#findings");
    if (findings && list.childElementCount !== findings.length) {
      list.replaceChildren(...findings.map((text) => Object.assign(element("li", {}), { textContent: text })));
    }
    this.ask(question ?? 0, choices ?? []);
    this.place.querySelector("#watched").textContent = source ? `${source}: ${link}, ${Math.round(rate)} frames/s` : "";
    this.place.querySelector("#moved").textContent = moved ?? (good && source ? "move one stick" : "");
    for (const [name, [raw, low, high, least, most]] of Object.entries(controls ?? {})) {
      const row = this.rows.get(name) ?? this.make(name);
      row.line.classList.toggle("moved", name === moved);
      row.line.classList.toggle("done", done?.includes(name) ?? false);
      if (verdicts?.[name]) row.line.dataset.verdict = verdicts[name];
      row.raw.textContent = raw === null ? "–" : Number(raw.toPrecision(6));
      const share = (value) => (most > least ? Math.max(0, Math.min(100, (100 * (value - least)) / (most - least))) : 0);
      row.band.style.left = `${share(low)}%`;
      row.band.style.width = `${share(high) - share(low)}%`;
      row.now.style.left = `${share(raw)}%`;
      row.band.hidden = row.now.hidden = raw === null;
    }
  }

  // A question with its answers as buttons; the same question leaves them as they are.
  ask(question, choices) {
    const box = this.place.querySelector("#choices");
    if (box.dataset.question === String(question)) return;
    box.dataset.question = question;
    box.replaceChildren(...choices.map(([key, words]) => {
      const button = element("button", { type: "button" });
      const name = element("b", {});
      name.textContent = key;
      button.append(name, words);
      button.addEventListener("click", () => {
        box.replaceChildren(); // one answer for each question
        this.answer(key, question);
      });
      return button;
    }));
  }

  make(name) {
    const line = element("tr", {});
    const title = element("th", { scope: "row" });
    title.textContent = name;
    const [raw, cell] = [element("td", {}), element("td", {})];
    const bar = element("span", { class: "range", "aria-hidden": "true" });
    const [band, now] = [element("i", {}), element("b", {})];
    bar.append(band, now);
    cell.append(bar);
    line.append(title, raw, cell);
    this.place.querySelector("tbody").append(line);
    const row = { line, raw, band, now };
    this.rows.set(name, row);
    return row;
  }
}
