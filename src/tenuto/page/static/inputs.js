// Thumbs, keys, a gamepad or the tilt of a phone, as positions of the robot's controls.

import { Tilt } from "/static/tilt.js";

// A gamepad that moved less than this has not been touched.
const PAD_TOUCHED = 0.15;
const KEYS = {
  KeyW: [0, "y", 1], ArrowUp: [0, "y", 1], KeyS: [0, "y", -1], ArrowDown: [0, "y", -1],
  KeyA: [0, "x", 1], ArrowLeft: [0, "x", 1], KeyD: [0, "x", -1], ArrowRight: [0, "x", -1],
  KeyI: [1, "y", 1], KeyK: [1, "y", -1], KeyJ: [1, "x", 1], KeyL: [1, "x", -1],
};
// The standard layout of the W3C Gamepad interface, by position.
const PAD_BUTTONS = [
  "south", "east", "west", "north", "left_shoulder", "right_shoulder", "left_trigger", "right_trigger", "back", "start",
  "left_stick", "right_stick", "dpad_up", "dpad_down", "dpad_left", "dpad_right", "guide",
];
const PAD_AXES = ["left_x", "left_y", "right_x", "right_y"];

export const isText = (target) => Boolean(target.closest?.("input:not([type=range]), select, textarea"));

const clamp = (value) => Math.max(-1, Math.min(1, value));

export class Inputs {
  constructor(places, changed, lost) {
    this.places = places;
    this.changed = changed;
    this.lost = lost;
    this.robot = null;
    this.sticks = [];
    this.values = {};
    this.held = new Set();
    this.down = new Set();
    this.reach = 0.3;
    this.pad = null;
    this.unknownPad = "";
    this.tilt = null;
    this.byStick = false;
    this.listen();
  }

  // Make the widgets of a robot.
  make(robot) {
    this.robot = robot;
    this.release();
    this.values = Object.fromEntries(robot.controls.map((control) => [control.name, control.rest]));
    this.byName = Object.fromEntries(robot.controls.map((control) => [control.name, control]));
    const { sticks, buttons, hold, widgets, byStick } = this.places;
    sticks.replaceChildren();
    this.sticks = robot.sticks.map((stick, number) => this.makeStick(stick, number, robot.sticks.length, sticks));
    widgets.classList.toggle("two", this.sticks.length > 1);
    buttons.replaceChildren(
      ...robot.buttons.map((button) => this.makeButton(button)),
      ...robot.sliders.map((slider) => this.makeSlider(slider)),
    );
    hold.hidden = !robot.holds.length;
    // Two sticks take both thumbs of a phone: then the one that rests on the left stick may hold.
    this.holdByStick(false);
    byStick.hidden = !(robot.holds.length && robot.sticks.length > 1 && matchMedia("(pointer: coarse)").matches);
  }

  makeStick({ x, y, dead_zone, round }, number, of, place) {
    const side = of === 1 ? "stick" : number ? "right stick" : "left stick";
    const names = [y, x].filter(Boolean).map(words).join(", ");
    const box = element("div", { class: "stick-box" });
    const area = element("div", {
      class: `stick ${x ? "" : "up"} ${y ? "" : "level"}`, role: "group", tabindex: "0", "aria-label": `${side}: ${names}`,
    });
    const zone = element("span", { class: round ? "zone round" : "zone" });
    const knob = element("span", { class: "knob" });
    const dot = element("span", { class: "dot", hidden: "" });
    zone.style.width = x ? `${100 * dead_zone}%` : "100%";
    zone.style.height = y ? `${100 * dead_zone}%` : "100%";
    area.append(zone, knob, dot);
    const label = element("span", {});
    label.textContent = names;
    box.append(area, label);
    place.append(box);
    const stick = { x, y, area, knob, dot, thumb: { x: 0, y: 0 }, pointer: null, from: null, size: [140, 140] };
    // The size is cached: reading it makes the browser compute the layout first.
    new ResizeObserver(() => (stick.size = [area.clientWidth, area.clientHeight])).observe(area);
    area.addEventListener("pointerdown", (event) => {
      if (stick.pointer !== null) return;
      area.setPointerCapture(event.pointerId);
      // The stick is in its middle where the thumb lands: no jump.
      Object.assign(stick, { pointer: event.pointerId, from: [event.clientX, event.clientY] });
      if (this.byStick && number === 0) this.hold("stick", true);
      event.preventDefault();
    });
    // If the browser has it: all moves at once, not one for each picture.
    const moved = "onpointerrawupdate" in window ? "pointerrawupdate" : "pointermove";
    area.addEventListener(moved, (event) => {
      if (event.pointerId !== stick.pointer) return;
      const reach = Math.max(...stick.size) / 2 - 20;
      stick.thumb = {
        x: x ? clamp((stick.from[0] - event.clientX) / reach) : 0,
        y: y ? clamp((stick.from[1] - event.clientY) / reach) : 0,
      };
      this.changed();
    });
    for (const end of ["pointerup", "pointercancel", "lostpointercapture"]) {
      area.addEventListener(end, (event) => {
        if (event.pointerId !== stick.pointer) return;
        Object.assign(stick, { pointer: null, thumb: { x: 0, y: 0 } });
        if (number === 0) this.hold("stick", false);
        else this.changed();
      });
    }
    return stick;
  }

  makeButton({ name, role, stays, label: said }) {
    const button = element("button", { type: "button", "aria-pressed": "false", "data-role": role, "data-control": name });
    button.textContent = words(role && role !== said ? `${said}: ${role}` : said);
    const set = (on) => {
      this.values[name] = on ? 1 : 0;
      button.setAttribute("aria-pressed", String(on));
      this.changed();
    };
    if (stays) {
      button.addEventListener("click", () => set(!this.values[name]));
    } else {
      whileDown(button, set);
    }
    // Also those that stay: the robot must see them off, and must not find them pressed when somebody comes back.
    button.letGo = () => set(false);
    return button;
  }

  makeSlider({ name, one_way, springs, fine, label: said }) {
    const label = element("label", {});
    label.textContent = words(said);
    const rest = this.byName[name].rest;
    const range = element("input", { type: "range", min: one_way ? "0" : "-1", max: "1", step: fine ? "0.01" : "1" });
    const set = (value) => {
      range.value = String(value);
      this.values[name] = Number(value);
      this.changed();
    };
    range.value = String(rest);
    range.addEventListener("input", () => set(range.value));
    label.letGo = () => springs && set(rest);
    if (springs) for (const end of ["pointerup", "pointercancel", "change", "blur"]) range.addEventListener(end, label.letGo);
    label.append(range);
    return label;
  }

  listen() {
    const { hold } = this.places;
    whileDown(hold, (on) => this.hold("thumb", on));
    addEventListener("keydown", (event) => this.key(event, true));
    addEventListener("keyup", (event) => this.key(event, false));
    addEventListener("gamepaddisconnected", (event) => event.gamepad.index === this.pad?.index && this.losePad());
    // If no finger is left on the screen, nothing is held, whatever happened to the pointers.
    onceNoFingerIsLeft(() => {
      for (const stick of this.sticks) Object.assign(stick, { pointer: null, thumb: { x: 0, y: 0 } });
      this.hold("stick", false);
    });
    addEventListener("contextmenu", (event) => event.target.closest?.("#deck") && event.preventDefault());
    // A control that was moved or pressed by a pointer keeps no focus: otherwise the next key would go to it, and hold nothing.
    addEventListener("pointerup", ({ target }) => {
      const touched = target.closest?.("input[type=range], button");
      if (touched) setTimeout(() => touched.blur());
    });
  }

  // Whether a thumb on the left stick holds. A thumb that is already there has to be lifted first.
  holdByStick(on) {
    this.byStick = on;
    this.places.byStick.setAttribute("aria-pressed", String(on));
    this.hold("stick", false);
  }

  hold(by, on) {
    if (on) this.held.add(by);
    else this.held.delete(by);
    this.places.hold.setAttribute("aria-pressed", String(this.held.size > 0));
    this.changed();
  }

  key(event, down) {
    // A key with another meaning presses nothing; but its release counts everywhere.
    const elsewhere = event.ctrlKey || event.altKey || event.metaKey || isText(event.target) ||
      (event.code !== "Space" && event.target.closest?.("input"));
    if (down && (elsewhere || (event.code === "Space" && event.target.closest?.("button:not(#hold)")))) return;
    if (event.code === "Space") {
      if (down) event.preventDefault();
      if (!event.repeat) this.hold("key", down);
    } else if (event.code in KEYS) {
      if (down) event.preventDefault();
      if (down) this.down.add(event.code);
      else this.down.delete(event.code);
      this.changed();
    } else if (down && (event.key === "+" || event.key === "-")) {
      this.reach = Math.max(0.1, Math.min(1, this.reach + (event.key === "+" ? 0.1 : -0.1)));
      this.places.reach.textContent = `${Math.round(100 * this.reach)} %`;
    }
  }

  // Release everything; only sliders of several positions keep their positions, for robot and page alike.
  release() {
    this.held.clear();
    this.down.clear();
    for (const stick of this.sticks) Object.assign(stick, { pointer: null, thumb: { x: 0, y: 0 } });
    for (const one of this.places.buttons.children) one.letGo?.();
    this.places.hold.setAttribute("aria-pressed", "false");
  }

  // Read the gamepad that was touched first; null if there is none. One without the standard layout is never read: its
  // sticks and buttons are in other places.
  readPad() {
    const pads = [...(navigator.getGamepads?.() ?? [])];
    this.unknownPad = "";
    if (!this.pad) {
      for (const pad of pads) {
        if (!pad?.connected || !isTouched(padValues(pad))) continue;
        if (pad.mapping === "standard") this.pad = { index: pad.index, id: pad.id };
        else this.unknownPad = `the browser does not know the layout of ${pad.id}: connect it to the robot's computer`;
        if (this.pad) break;
      }
      if (!this.pad) return null;
    }
    const pad = pads.find((one) => one?.index === this.pad.index);
    if (!pad?.connected || pad.id !== this.pad.id || pad.mapping !== "standard") {
      this.losePad();
      return null;
    }
    return padValues(pad);
  }

  losePad() {
    if (this.pad) this.lost("the gamepad was unplugged");
    this.pad = null;
  }

  async toggleTilt() {
    if (this.tilt) this.tilt.end();
    this.tilt = this.tilt ? null : await Tilt.begin(() => this.changed(), () => this.release());
    this.places.tilt.setAttribute("aria-pressed", String(this.tilt !== null));
  }

  // The present positions of all controls. Of several inputs for one control, the largest deflection counts.
  positions() {
    const found = { ...this.values };
    const most = (name, value) => {
      if (name && Math.abs(value) > Math.abs(found[name] ?? 0)) found[name] = value;
    };
    const keys = this.keyed();
    this.sticks.forEach((stick, number) => {
      found[stick.x] = found[stick.y] = 0;
      for (const axis of ["x", "y"]) {
        most(stick[axis], stick.thumb[axis]);
        most(stick[axis], this.beyondZone(stick[axis], keys[number]?.[axis] ?? 0));
        if (number === 0 && this.tilt) most(stick[axis], this.tilt[axis]);
      }
    });
    delete found[""];
    const pad = this.readPad();
    for (const name of this.robot.holds) {
      found[name] = this.held.size ? this.robot.grip : 0;
      if (pad) most(name, this.padHold(pad, name)); // pressed through, it stops
    }
    if (pad) this.addPad(pad, most);
    this.draw(found);
    return Object.fromEntries(Object.entries(found).map(([name, value]) => [name, Math.round(1e4 * value) / 1e4]));
  }

  // Why nobody may drive with this now; empty if all is well.
  problem() {
    return this.tilt?.problem() ?? "";
  }

  // A key's share of the travel beyond the dead zone, which is the stick's and not the key's.
  beyondZone(name, share) {
    const { first = 0, last = 1 } = this.byName[name] ?? {};
    return Math.sign(share) * (first + Math.abs(share) * (last - first));
  }

  keyed() {
    const found = [{ x: 0, y: 0 }, { x: 0, y: 0 }];
    for (const code of this.down) {
      const [stick, axis, sign] = KEYS[code];
      found[stick][axis] = clamp(found[stick][axis] + sign * this.reach);
    }
    return found;
  }

  // A robot whose profile reads a gamepad is driven by the same names; any other by the positions of its drawn sticks.
  padNames() {
    const reads = this.robot.controls.filter((control) => PAD_AXES.includes(control.reads) || PAD_BUTTONS.includes(control.reads));
    return reads.length > 0;
  }

  padHold(pad, name) {
    if (!this.padNames()) return pad.left_shoulder > 0.5 ? this.robot.grip : 0;
    return this.padPosition(pad, this.byName[name]);
  }

  // The position of a control of the profile if this pad is its device.
  padPosition(pad, { reads, minus, one_way, reversed }) {
    if (!(reads in pad)) return 0;
    const at = clamp(pad[reads] - (pad[minus] ?? 0));
    return !reversed ? at : one_way ? 1 - at : -at;
  }

  addPad(pad, most) {
    if (this.padNames()) {
      for (const control of this.robot.controls) {
        if (!this.robot.holds.includes(control.name)) most(control.name, this.padPosition(pad, control));
      }
      return;
    }
    this.sticks.forEach((stick, number) => {
      most(stick.x, number || this.sticks.length === 1 ? pad.right_x || pad.left_x : pad.left_x);
      most(stick.y, number ? pad.right_y : pad.left_y);
    });
  }

  draw(found) {
    for (const { x, y, size, knob } of this.sticks) {
      const reach = [size[0] / 2 - 26, size[1] / 2 - 26];
      knob.style.transform = `translate(${-(found[x] ?? 0) * reach[0]}px, ${-(found[y] ?? 0) * reach[1]}px)`;
    }
  }

  // Show the stick positions that the robot reports.
  seen(positions) {
    for (const { x, y, size, dot } of this.sticks) {
      dot.hidden = false;
      const reach = [size[0] / 2 - 8, size[1] / 2 - 8];
      dot.style.transform = `translate(${-(positions[x]?.[1] ?? 0) * reach[0]}px, ${-(positions[y]?.[1] ?? 0) * reach[1]}px)`;
    }
  }
}

function padValues(pad) {
  const values = {};
  PAD_AXES.forEach((name, number) => (values[name] = clamp(-(pad.axes[number] ?? 0))));
  PAD_BUTTONS.forEach((name, number) => (values[name] = pad.buttons[number]?.value ?? 0));
  return values;
}

const isTouched = (values) => Object.values(values).some((value) => Math.abs(value) > PAD_TOUCHED);

function onceNoFingerIsLeft(act) {
  for (const end of ["touchend", "touchcancel"]) {
    addEventListener(end, (event) => event.touches.length || act(), { capture: true, passive: true });
  }
}

// Call set(true) while a pointer or a key holds a button down.
export function whileDown(button, set) {
  const pointers = new Set();
  button.addEventListener("pointerdown", (event) => {
    button.setPointerCapture(event.pointerId);
    pointers.add(event.pointerId);
    set(true);
    event.preventDefault();
  });
  for (const end of ["pointerup", "pointercancel", "lostpointercapture"]) {
    button.addEventListener(end, (event) => {
      if (pointers.delete(event.pointerId) && !pointers.size) set(false);
    });
  }
  onceNoFingerIsLeft(() => {
    if (!pointers.size) return;
    pointers.clear();
    set(false);
  });
  button.addEventListener("keydown", (event) => {
    if ((event.code === "Enter" || (event.code === "Space" && button.id !== "hold")) && !event.repeat) set(true);
  });
  button.addEventListener("keyup", (event) => (event.code === "Enter" || (event.code === "Space" && button.id !== "hold")) && set(false));
  button.addEventListener("blur", () => !pointers.size && set(false));
}

export function element(name, attributes) {
  const made = document.createElement(name);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  return made;
}

export const words = (name) => name.replaceAll("_", " ");
