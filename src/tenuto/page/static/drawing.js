// The robot from above with its wheels at their angles and speeds, and its reported path.

const SVG = "http://www.w3.org/2000/svg";
// The number of points of the path that are kept.
const MOST_POINTS = 4000;

function part(name, attributes, parent) {
  const made = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) made.setAttribute(key, value);
  parent.append(made);
  return made;
}

const style = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const deg = (rad) => (rad * 180) / Math.PI;

export class Vehicle {
  constructor(svg) {
    this.svg = svg;
  }

  // Forward is up, left is left: metres become a drawing of 200 by 200.
  make(facts) {
    this.facts = facts;
    this.svg.replaceChildren();
    const all = [...facts.outline, ...facts.parts.map(({ x, y }) => [x, y])];
    const xs = all.map(([x]) => x);
    const ys = all.map(([, y]) => y);
    const middle = [(Math.max(...xs) + Math.min(...xs)) / 2, (Math.max(...ys) + Math.min(...ys)) / 2];
    const size = Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys)) || 0.5;
    this.scale = 120 / size;
    this.svg.setAttribute("viewBox", "-100 -100 200 200");
    this.at = ([x, y]) => [-(y - middle[1]) * this.scale, -(x - middle[0]) * this.scale];
    part("polygon", { class: "body", points: facts.outline.map((corner) => this.at(corner).join(",")).join(" ") }, this.svg);
    const nose = this.at([Math.max(...facts.outline.map(([x]) => x)), 0]);
    const origin = this.at([0, 0]);
    part("line", { class: "nose", x1: origin[0], y1: origin[1], x2: nose[0], y2: nose[1] }, this.svg);
    this.parts = facts.parts.map((one) => this.makePart(one));
  }

  makePart(one) {
    const [x, y] = this.at([one.x, one.y]);
    const group = part("g", { transform: `translate(${x} ${y})` }, this.svg);
    const turned = part("g", {}, group);
    const half = Math.max((one.shape === "track" ? 3.2 : 1) * this.facts.radius * this.scale, 9);
    const wide = Math.max(0.38 * this.facts.radius * this.scale, 4);
    if (one.shape === "thruster") part("circle", { class: "wheel", r: 6 }, turned);
    else part("rect", { class: "wheel", x: -wide, y: -half, width: 2 * wide, height: 2 * half, rx: 2 }, turned);
    const push = part("line", { class: "push", x1: 0, y1: 0, x2: 0, y2: 0 }, turned);
    const head = part("polygon", { class: "push-head", points: "" }, turned);
    return { ...one, turned, push, head };
  }

  draw({ actuators }) {
    const ends = this.facts.ends;
    for (const one of this.parts ?? []) {
      const mine = Object.entries(actuators).filter(([name]) => name === one.name || name.startsWith(`${one.name}_`));
      const angle = mine.find(([name]) => name.endsWith("_angle"))?.[1] ?? one.angle;
      const does = mine.find(([name]) => !name.endsWith("_angle"));
      const share = does ? Math.max(-1, Math.min(1, does[1] / (ends[does[0]] || Math.abs(does[1]) || 1))) : 0;
      one.turned.setAttribute("transform", `rotate(${-deg(angle)})`);
      const long = -44 * share;
      one.push.setAttribute("y2", long);
      const tip = long + (share > 0 ? -9 : 9);
      one.head.setAttribute("points", Math.abs(share) > 0.02 ? `-7,${long} 7,${long} 0,${tip}` : "");
    }
  }
}

export class Path {
  constructor(canvas) {
    this.canvas = canvas;
    this.points = [];
    this.size = [0, 0];
    new ResizeObserver(() => (this.size = [canvas.clientWidth, canvas.clientHeight])).observe(canvas);
  }

  make() {
    this.points = [];
    this.heading = 0;
    this.colours = { dim: style("--dim"), accent: style("--accent"), trace: style("--trace") };
  }

  add({ far }) {
    const pose = Object.values(far).map((one) => one.pose).find(([x, y]) => x !== null && y !== null);
    if (!pose) return;
    const last = this.points.at(-1);
    this.heading = pose[2] ?? 0;
    if (last && Math.hypot(last[0] - pose[0], last[1] - pose[1]) < 0.01) return;
    this.points.push([pose[0], pose[1]]);
    if (this.points.length > MOST_POINTS) this.points = this.points.filter((_, number) => number % 2);
  }

  draw() {
    const { canvas } = this;
    const dense = devicePixelRatio || 1;
    const [wide, high] = this.size;
    if (!wide) return;
    if (canvas.width !== Math.round(wide * dense)) Object.assign(canvas, { width: wide * dense, height: high * dense });
    const pen = canvas.getContext("2d");
    pen.setTransform(dense, 0, 0, dense, 0, 0);
    pen.clearRect(0, 0, wide, high);
    pen.font = "12px system-ui, sans-serif";
    pen.fillStyle = this.colours.dim;
    if (this.whole) {
      this.points = this.whole;
      this.heading = this.pose?.[2] ?? 0;
    }
    const points = this.points;
    if (!points.length) {
      pen.fillText("no position is reported", 10, 20);
      return;
    }
    const xs = points.map(([x]) => x);
    const ys = points.map(([, y]) => y);
    const span = Math.max(Math.max(...xs) - Math.min(...xs), Math.max(...ys) - Math.min(...ys), 2) * 1.25;
    const scale = Math.min(wide, high) / span;
    const middle = [(Math.max(...xs) + Math.min(...xs)) / 2, (Math.max(...ys) + Math.min(...ys)) / 2];
    const at = ([x, y]) => [wide / 2 - (y - middle[1]) * scale, high / 2 - (x - middle[0]) * scale];
    const metre = 10 ** Math.floor(Math.log10(span / 2));
    pen.fillRect(10, high - 12, metre * scale, 2);
    pen.fillText(`${metre} m`, 10, high - 18);
    pen.strokeStyle = this.colours.accent;
    pen.lineWidth = 2;
    pen.beginPath();
    for (const point of points) pen.lineTo(...at(point)); // only the position of a pose
    pen.stroke();
    pen.save();
    pen.translate(...at(this.pose ?? points.at(-1)));
    pen.rotate(-this.heading);
    pen.fillStyle = this.colours.trace;
    pen.beginPath();
    pen.moveTo(0, -9);
    pen.lineTo(6, 7);
    pen.lineTo(-6, 7);
    pen.fill();
    pen.restore();
  }
}
