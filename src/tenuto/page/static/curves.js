// The response of each stick as a curve that can be dragged: its foot sets the dead zone, its middle the expo. The stick
// shows the effect at once; the driver can save it into the profile.

import { element, words } from "/static/inputs.js";

const SVG = "http://www.w3.org/2000/svg";
const ASK_MS = 60;

const part = (name, attributes, parent) => {
  const made = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  parent.append(made);
  return made;
};

export class Curves {
  constructor(place, say) {
    this.place = place;
    this.say = say;
    this.all = {};
  }

  make(curves, mayChange) {
    this.place.hidden = !curves.length;
    this.all = {};
    this.place.querySelector("div").replaceChildren(...curves.map((curve) => this.makeOne(curve, mayChange)));
  }

  makeOne({ control, settings, x, y }, mayChange) {
    const box = element("figure", {});
    const title = element("figcaption", {});
    title.textContent = words(control);
    const svg = document.createElementNS(SVG, "svg");
    svg.setAttribute("viewBox", "-1.12 -1.12 2.24 2.24");
    svg.setAttribute("role", "img");
    svg.setAttribute("aria-label", `response of ${words(control)}`);
    part("path", { class: "cross", d: "M-1,0H1M0,-1V1" }, svg);
    const one = { control, numbers: {}, sliders: {}, asked: 0, x, y };
    one.line = part("path", { class: "made" }, svg);
    one.dot = part("circle", { class: "at", r: 0.07 }, svg);
    box.append(title, svg);
    for (const [key, { value, low, high }] of Object.entries(settings)) {
      const label = element("label", {});
      const slider = element("input", { type: "range", min: low, max: high, step: "0.01" });
      slider.value = String(value);
      slider.disabled = !mayChange;
      const number = element("span", {});
      number.textContent = value.toFixed(2);
      slider.addEventListener("input", () => this.change(one, key, Number(slider.value)));
      label.append(`${words(key)} `, number, slider);
      one.sliders[key] = { slider, number };
      box.append(label);
    }
    if (mayChange) {
      this.drag(svg, one, settings);
      const save = element("button", { type: "button" });
      save.textContent = "Save in the profile";
      save.addEventListener("click", () => this.say({ type: "save", text: control, numbers: one.numbers }));
      save.hidden = true;
      one.save = save;
      box.append(save);
    }
    one.why = element("p", { role: "alert" });
    box.append(one.why);
    this.all[control] = one;
    this.drawLine(one);
    return box;
  }

  // Near the middle a drag moves the dead zone, further out it bends the curve.
  drag(svg, one, settings) {
    let key = "";
    const at = (event) => {
      const edges = svg.getBoundingClientRect();
      const [across, down] = [(event.clientX - edges.left) / edges.width, (event.clientY - edges.top) / edges.height];
      return [2.24 * across - 1.12, 1.12 - 2.24 * down];
    };
    svg.addEventListener("pointerdown", (event) => {
      const foot = (one.numbers.dead_zone ?? settings.dead_zone?.value ?? 0) + 0.15;
      key = Math.abs(at(event)[0]) < foot && settings.dead_zone ? "dead_zone" : settings.expo ? "expo" : "dead_zone";
      if (!settings[key]) return;
      svg.setPointerCapture(event.pointerId);
    });
    svg.addEventListener("pointermove", (event) => {
      if (!svg.hasPointerCapture?.(event.pointerId)) return;
      const [x, y] = at(event);
      const { low, high } = settings[key];
      // Expo: how far the curve is below the straight line at the pointer.
      const straight = Math.abs(x) > 0.05 ? 1 - Math.abs(y) / Math.abs(x) : 0;
      const value = key === "dead_zone" ? Math.abs(x) : straight / Math.max(1 - x * x, 0.1);
      this.change(one, key, Math.round(100 * Math.min(Math.max(value, low), high)) / 100);
    });
  }

  change(one, key, value) {
    one.numbers[key] = value;
    one.sliders[key].slider.value = String(value);
    one.sliders[key].number.textContent = value.toFixed(2);
    if (one.save) one.save.hidden = false;
    clearTimeout(one.asking);
    const wait = Math.max(0, one.asked + ASK_MS - performance.now());
    one.asking = setTimeout(() => {
      one.asked = performance.now();
      this.say({ type: "curve", text: one.control, numbers: one.numbers });
    }, wait);
  }

  came({ control, why, x, y }) {
    const one = this.all[control];
    if (!one) return;
    one.why.textContent = why ?? "";
    if (why) return;
    Object.assign(one, { x, y });
    this.drawLine(one);
  }

  drawLine(one) {
    one.line.setAttribute("d", `M${one.x.map((x, number) => `${x},${-one.y[number]}`).join("L")}`);
  }

  // The present position of the stick, on the tried curve.
  tick({ controls }) {
    for (const [name, one] of Object.entries(this.all)) {
      const position = controls[name]?.[1] ?? 0;
      let nearest = 0;
      one.x.forEach((x, number) => {
        if (Math.abs(x - position) < Math.abs(one.x[nearest] - position)) nearest = number;
      });
      one.dot.setAttribute("cx", position);
      one.dot.setAttribute("cy", -one.y[nearest]);
    }
  }
}
