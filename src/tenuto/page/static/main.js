// The connection of the page: frames go to the robot while somebody drives from here, and ticks come back.

import { Inputs, isText, whileDown } from "/static/inputs.js";
import { Class } from "/static/class.js";
import { Curves } from "/static/curves.js";
import { Player } from "/static/player.js";
import { Watch } from "/static/watch.js";
import { View } from "/static/view.js";

const FRAME_MS = 20;
// Changes within this time are sent together.
const LEAST_MS = 8;
// How often the page reports that nobody operates it.
const AWAY_MS = 200;
// Bytes that wait to be sent would arrive late: no more are added to them.
const MOST_WAITING = 2000;
const RETRY_MS = [300, 700, 1500, 3000];
const RESET_HELD_MS = 1000;

const place = (id) => document.getElementById(id);
const view = new View();
const inputs = new Inputs(
  { sticks: place("sticks"), buttons: place("buttons"), hold: place("hold"), byStick: place("by-stick"), tilt: place("tilt"), widgets: place("widgets"), reach: place("reach") },
  () => moved(),
  (why) => away(why, true),
);

const curves = new Curves(place("curves"), (message) => say(message));
const robots = new Class(place("class"), (message) => say(message));
const watch = new Watch(place("watch"), (answer, question) => say({ type: "choice", text: answer, question }));
const player = new Player(place("player"), (message) => say(message));

let line = null;
let tries = 0;
let who = { you: "", driver: "", there: [], seat: false };
let clock = null;
let facts = null;
let shownFor = "";
let number = 0;
let movedAt = -Infinity;
let toldOf = "";
let soon = 0;
// The times of the newest frames, by their numbers.
const sentAs = new Map();
// Why nobody operates this page now; empty if somebody does.
let absent = document.hidden ? "the page is hidden" : "";
let over = false;

const driving = () => who.driver === who.you && who.you !== "";

function connect() {
  line = new WebSocket(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/live`);
  line.onopen = () => {
    tries = 0;
    over = false;
    say({ type: "name", text: deviceName() });
  };
  line.onmessage = ({ data }) => hear(JSON.parse(data));
  line.onclose = (event) => {
    who = { ...who, you: "", driver: "" };
    clock = null;
    showSeat();
    view.disconnected(over ? "the drive has ended" : event.reason || "the robot does not answer");
    // Also after its end: the drive may be started again, and then somebody must take the seat again.
    setTimeout(connect, over ? RETRY_MS.at(-1) : RETRY_MS[Math.min(tries++, RETRY_MS.length - 1)]);
  };
}

function say(message) {
  if (line?.readyState === WebSocket.OPEN) line.send(JSON.stringify(message));
}

function hear(message) {
  if (message.type === "tick") {
    clock = message.clock;
    if (driving() && sentAs.has(message.echo)) message.echo_ms = Math.round(performance.now() - sentAs.get(message.echo));
    if (message.watch) {
      document.body.classList.add("watch");
      watch.show(message.watch);
      if (message.watch.choices) view.state("question", "waiting");
      else view.state(message.watch.good ? "sending" : "silent", message.watch.good ? "driving" : "stopped");
    }
    if (message.state !== undefined) {
      view.tick(message, who);
      inputs.seen(message.controls);
      curves.tick(message);
      if (player.log) player.came();
    }
  } else if (message.type === "robot") {
    view.robot(message);
    inputs.make(message);
    facts = message;
    document.body.classList.remove("device");
    showSeat();
  } else if (message.type === "device") {
    document.body.classList.add("device");
    inputs.make(message);
    view.device();
  } else if (message.type === "class") {
    document.body.classList.add("class");
    document.title = "Robots — Tenuto";
    place("title").textContent = "All robots";
    place("class").querySelector("p").textContent = `No robot has been heard yet: ${message.hint}.`;
    place("emergency").textContent = "STOP ALL";
    place("emergency").setAttribute("aria-label", "emergency stop of all robots");
  } else if (message.type === "robots") {
    robots.show(message.cards, who.there.find((one) => one.id === who.you)?.may_drive ?? false);
    view.state(summary(message.cards), "none");
  } else if (message.type === "log") {
    document.body.classList.add("log");
    view.log(message);
    player.make(message);
  } else if (message.type === "curve") {
    curves.came(message);
  } else if (message.type === "who") {
    const before = driving();
    who = message;
    if (before !== driving()) inputs.release();
    showSeat();
  } else if (message.type === "asked") {
    view.toast(`${message.name} asks for the robot.`, "Hand it over", () => say({ type: "give", to: message.by }));
  } else if (message.type === "refused") {
    view.toast(message.text);
  } else if (message.type === "over") {
    over = true;
  }
}

const speaks = () => driving() && clock !== null && !absent && line.readyState === WebSocket.OPEN;

// Send the position of a moved control at once; several moves within a moment are sent together.
function moved() {
  if (!speaks()) return;
  const now = performance.now();
  const early = movedAt + LEAST_MS - now;
  if (early > 0) {
    soon ||= setTimeout(moved, early);
    return;
  }
  movedAt = now;
  clearTimeout(soon);
  soon = 0;
  frame();
}

// Send the positions of the controls: at least fifty times a second.
function frame() {
  if (!speaks() || line.bufferedAmount > MOST_WAITING) return;
  const now = performance.now();
  const values = inputs.positions();
  if (!driving() || absent) return; // a gamepad may have been found gone meanwhile
  sentAs.set(number + 1, now);
  if (sentAs.size > 100) sentAs.delete(sentAs.keys().next().value);
  const problem = inputs.problem();
  if (inputs.unknownPad && inputs.unknownPad !== toldOf) view.toast(inputs.unknownPad);
  toldOf = inputs.unknownPad;
  say({ type: "frame", number: ++number, heard: clock, good: !problem, note: problem, values: problem ? {} : values });
}

// Report at once that nobody operates this page.
function away(why, once = false) {
  inputs.release();
  if (!once) absent = why;
  if (driving() && clock !== null) {
    say({ type: "frame", number: ++number, heard: clock, good: false, note: why, values: {} });
  }
}

function back() {
  if (!document.hidden) absent = "";
}

addEventListener("blur", () => away("the page lost the focus"));
addEventListener("focus", back);
document.addEventListener("visibilitychange", () => (document.hidden ? away("the page is hidden") : back()));
document.addEventListener("freeze", () => away("the browser froze the page"));
addEventListener("pagehide", () => away("the page was left"));
addEventListener("pageshow", back);
setInterval(frame, FRAME_MS);
setInterval(() => absent && away(absent), AWAY_MS);

place("emergency").addEventListener("pointerdown", (event) => {
  event.preventDefault();
  stopNow();
});
place("emergency").addEventListener("click", stopNow);
// X and Escape stop wherever the focus is, but in a text an X is a letter.
addEventListener("keydown", (event) => {
  if (event.repeat) return;
  if (event.code === "Escape" || (event.code === "KeyX" && !event.ctrlKey && !event.metaKey && !isText(event.target))) stopNow();
}, { capture: true });

let stoppedAt = -Infinity;
function stopNow() {
  inputs.release();
  if (performance.now() - stoppedAt < 200) return; // the click that belongs to a pointer
  stoppedAt = performance.now();
  say({ type: "emergency" });
  if (line?.readyState !== WebSocket.OPEN) view.toast("Not connected: the robot does not hear this page. It stops by itself.");
}

// A reset is deliberate: the button is held for a second.
let resetting = 0;
whileDown(place("reset"), (on) => {
  clearTimeout(resetting);
  if (on) resetting = setTimeout(() => say({ type: "reset" }), RESET_HELD_MS);
});
place("take").addEventListener("click", () => say({ type: "take" }));
place("leave").addEventListener("click", () => {
  away("the driver stopped driving", true);
  say({ type: "let_go" });
});
place("mark").addEventListener("click", () => say({ type: "mark" }));
place("tilt").addEventListener("click", () => inputs.toggleTilt());
place("by-stick").addEventListener("click", () => inputs.holdByStick(!inputs.byStick));
place("tilt").hidden = !("DeviceOrientationEvent" in window && matchMedia("(pointer: coarse)").matches);

function showSeat() {
  const mine = driving();
  const driver = who.there.find((one) => one.id === who.driver);
  const may = who.there.find((one) => one.id === who.you)?.may_drive ?? false;
  place("widgets").hidden = !mine;
  place("leave").hidden = !mine;
  place("take").hidden = mine || !who.seat || !may;
  place("take").textContent = !driver ? "Drive from here"
    : `Ask ${driver.name} for the robot`;
  place("mark").hidden = !may;
  place("seat-text").textContent = mine ? "You drive." : driver ? `${driver.name} drives. You watch.`
    : who.seat ? "There is no driver." : "This page only shows the drive; it is driven with other sticks.";
  if (facts && shownFor !== `${may} ${facts.curves.map((one) => JSON.stringify(one.settings))}`) {
    shownFor = `${may} ${facts.curves.map((one) => JSON.stringify(one.settings))}`;
    curves.make(facts.curves, may);
  }
  view.who(who, (to) => say({ type: "give", to }));
}

function summary(cards) {
  const count = (state) => cards.filter((one) => one.state === state).length;
  return `${cards.length} ${cards.length === 1 ? "robot" : "robots"}, ${count("driving")} driving, ${count("emergency stop")} stopped`;
}

function deviceName() {
  return /Android|iPhone|Mobile/.test(navigator.userAgent) ? "phone" : "laptop";
}

connect();
