// A log on the page: a bar of its time with the guard's states, and the moment under the pointer.

import { element } from "/static/inputs.js";

const LOOKS = { driving: "driving", "not enabled": "waiting", "waiting for rest": "waiting" };
const STEP_MS = 50;

export class Player {
  constructor(place, ask) {
    this.place = place;
    this.ask = ask;
    this.waiting = false;
    this.wanted = null;
    this.playing = 0;
    this.slider = place.querySelector("#when");
    this.said = place.querySelector("#when-text");
    this.slider.addEventListener("input", () => this.go(Number(this.slider.value)));
    place.querySelector("#play").addEventListener("click", () => this.toggle());
    addEventListener("keydown", (event) => {
      if (!this.log || event.target === this.slider) return;
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.code];
      if (step) this.go(this.now + step * (event.shiftKey ? 1 : 0.02));
    });
  }

  make(log) {
    this.log = log;
    this.place.hidden = false;
    Object.assign(this.slider, { min: log.begin, max: log.end, step: 0.02 });
    const states = this.place.querySelector("#states");
    states.replaceChildren();
    const share = (time) => (100 * (time - log.begin)) / (log.end - log.begin || 1);
    log.states.forEach(([time, state], number) => {
      const end = log.states[number + 1]?.[0] ?? log.end;
      const part = element("i", { "data-state": LOOKS[state] ?? "stopped", title: `${state} from ${time.toFixed(2)} s` });
      part.style.left = `${share(time)}%`;
      part.style.width = `${Math.max(share(end) - share(time), 0.15)}%`;
      states.append(part);
    });
    for (const [time, text] of log.marks) {
      const mark = element("b", { title: `${text} at ${time.toFixed(2)} s` });
      mark.style.left = `${share(time)}%`;
      states.append(mark);
    }
    const first = log.states.find(([, state]) => state === "driving");
    this.go(first ? first[0] : log.begin);
  }

  // Request a moment; while an answer is on its way, only the newest request is kept.
  go(time) {
    this.now = Math.max(this.log.begin, Math.min(this.log.end, time));
    this.slider.value = String(this.now);
    this.said.textContent = `${this.now.toFixed(2)} s of ${this.log.end.toFixed(2)} s`;
    this.wanted = this.now;
    this.next();
  }

  next() {
    if (this.waiting || this.wanted === null) return;
    this.waiting = true;
    this.ask({ type: "at", time: this.wanted });
    this.wanted = null;
  }

  came() {
    this.waiting = false;
    this.next();
  }

  toggle() {
    const button = this.place.querySelector("#play");
    if (this.playing) {
      clearInterval(this.playing);
      this.playing = 0;
    } else {
      let before = performance.now();
      this.playing = setInterval(() => {
        const now = performance.now();
        this.go(this.now + (now - before) / 1000);
        before = now;
        if (this.now >= this.log.end) this.toggle();
      }, STEP_MS);
    }
    button.textContent = this.playing ? "Pause" : "Play";
  }
}
