// The last 30 seconds as strip charts: speed, turn, and the age of the newest frame.

const SECONDS = 30;

const style = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

export class Charts {
  constructor(box) {
    this.box = box;
    this.charts = [];
    new ResizeObserver(() => this.size()).observe(box);
  }

  make({ units }) {
    this.box.replaceChildren();
    const { speed, turn } = units;
    this.units = units;
    this.box.classList.remove("whole");
    this.strips = [
      { title: `demand and command (${speed.name})`, of: ({ demand, command }) => [demand.vx * speed.scale, command.vx * speed.scale], least: 0.2 * speed.scale },
      { title: `turn to the left (${turn.name})`, of: ({ demand, command }) => [demand.yaw_rate * turn.scale, command.yaw_rate * turn.scale], least: 0.2 * turn.scale },
      { title: "age of the newest frame (ms)", of: ({ link }) => [null, link.age === null ? null : 1000 * link.age], least: 100, from: 0 },
    ];
    this.data = this.strips.map(() => [[], [], []]);
    this.charts = this.strips.map((strip, number) => new uPlot(this.options(strip), this.data[number], this.box));
    this.size();
  }

  options({ title, least, from }) {
    const axis = { stroke: style("--dim"), grid: { stroke: style("--line"), width: 1 }, ticks: { show: false }, font: "11px system-ui" };
    const range = (_, low, high) => [from ?? 1.1 * Math.min(low ?? 0, -least), 1.1 * Math.max(high ?? 0, least)];
    return {
      width: 300, height: 112, title, legend: { show: false }, cursor: { show: false }, pxAlign: 0,
      scales: { x: { time: false, range: (_, low, high) => [high - SECONDS, high] }, y: { range } },
      axes: [{ ...axis, size: 22, splits: ({ scales }) => [30, 20, 10, 0].map((ago) => scales.x.max - ago), values: () => ["−30 s", "−20", "−10", "now"] }, { ...axis, size: 46 }],
      series: [{}, { stroke: style("--dim"), width: 1.5, dash: [4, 3] }, { stroke: style("--accent"), width: 2 }],
    };
  }

  // For a log: the speed over the whole drive, with a line at the selected moment.
  whole(times, speed) {
    this.box.replaceChildren();
    const scale = this.units.speed.scale;
    const data = [times, speed.map((one) => one * scale)];
    const options = this.options(this.strips[0]);
    options.title = `command (${this.units.speed.name})`;
    options.scales.x = { time: false };
    Object.assign(options.axes[0], { splits: undefined, values: (_, all) => all.map((at) => `${at} s`) });
    options.series = [{}, { stroke: style("--accent"), width: 2 }];
    options.hooks = { draw: [(chart) => this.cursor(chart)] };
    this.box.classList.add("whole");
    this.charts = [new uPlot(options, data, this.box)];
    this.strips = [];
    this.size();
  }

  cursor({ ctx, bbox, valToPos }) {
    if (this.moment === undefined) return;
    const x = valToPos(this.moment, "x", true);
    ctx.fillStyle = style("--trace");
    ctx.fillRect(x - 1, bbox.top, 2, bbox.height);
  }

  at(moment) {
    this.moment = moment;
    for (const chart of this.charts) chart.redraw(false);
  }

  add(tick) {
    this.strips?.forEach(({ of }, number) => {
      const [times, first, second] = this.data[number];
      if (times.length && tick.t <= times.at(-1)) {
        if (tick.t < times.at(-1) - 1) this.data[number].forEach((column) => (column.length = 0)); // another drive
        else return;
      }
      const [one, other] = of(tick);
      times.push(tick.t);
      first.push(one);
      second.push(other);
      while (times[0] < tick.t - SECONDS - 1) for (const column of this.data[number]) column.shift();
    });
  }

  draw() {
    if (document.hidden || !this.strips.length) return;
    this.charts.forEach((chart, number) => chart.setData(this.data[number]));
  }

  size() {
    const columns = getComputedStyle(this.box).gridTemplateColumns.split(" ").map(parseFloat);
    for (const chart of this.charts) chart.setSize({ width: Math.max(columns[0] || 200, 120), height: 112 });
  }
}
