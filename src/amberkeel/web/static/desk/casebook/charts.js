// Residuals to look at: by frame, over the picture, over depth, and against the noise that is expected. The four are
// linked: what is chosen in one, frames or tracks, is marked in all.

import { figuresOf } from "../lanes/residual.js";
import { INK, ramp } from "../shell/colour.js";
import { find } from "../shell/dom.js";

const [COLUMNS, ROWS] = [16, 9];
const LEAST = 3;
const BINS = 32;
const MOST_SIGMAS = 8;
const PAD = { left: 44, right: 14, top: 30, bottom: 24 };

/** What is drawn of an attempt: one row a measurement that has a residual, with its place and its track's depth. */
function rowsOf(attempt, tracks) {
  const depth = depths(attempt);
  const at = new Map();
  for (let t = 0; t < tracks.ids.length; t += 1)
    for (let s = tracks.first[t]; s < tracks.first[t + 1]; s += 1) at.set(tracks.ids[t] * 1e6 + tracks.frames[s], s);
  const out = [];
  for (let n = 0; n < attempt.track.length; n += 1) {
    const s = at.get(attempt.track[n] * 1e6 + attempt.frame[n]);
    if (s === undefined) continue;
    const length = Math.hypot(attempt.dx[n], attempt.dy[n]);
    if (!length) continue;
    out.push({
      id: attempt.track[n],
      frame: attempt.frame[n],
      x: tracks.x[s],
      y: tracks.y[s],
      dx: attempt.dx[n],
      dy: attempt.dy[n],
      length,
      sigmas: length / attempt.sigma[n],
      aside: attempt.aside[n],
      depth: depth.get(attempt.track[n]),
    });
  }
  return out;
}

/** Distance of each track's point from the first camera. */
function depths({ world }) {
  const [cx, cy, cz] = world.frames[0].position;
  return new Map(world.points.map((p) => [p.id, Math.hypot(p.xyz[0] - cx, p.xyz[1] - cy, p.xyz[2] - cz)]));
}

export class Charts {
  constructor(desk) {
    this.desk = desk;
    this.canvas = find("#charts");
    this.of = null;
    this.drag = null;
    new ResizeObserver(() => this.draw()).observe(this.canvas);
    this.canvas.addEventListener("pointerdown", (e) => this.down(e));
    this.canvas.addEventListener("pointermove", (e) => this.move(e));
    this.canvas.addEventListener("pointerup", () => this.up());
  }

  get shown() {
    return this.desk.state.view === "charts";
  }

  changed(keys) {
    if (this.shown && ["view", "attempt", "tracks", "selection", "range", "frame"].some((k) => keys.has(k)))
      this.draw();
  }

  prepare() {
    const { attempt, tracks } = this.desk.state;
    if (!attempt || !tracks) return null;
    if (this.of !== attempt || this.from !== tracks)
      [this.of, this.from, this.rows] = [attempt, tracks, rowsOf(attempt, tracks)];
    return this.rows;
  }

  /** The four boxes on the canvas: [name, x, y, width, height]. */
  boxes() {
    const [w, h] = [this.canvas.clientWidth, this.canvas.clientHeight];
    const [left, top] = [Math.round(w * 0.52), Math.round(h * 0.5)];
    return {
      frames: [0, 0, left, top],
      field: [left, 0, w - left, top],
      depth: [0, top, left, h - top],
      noise: [left, top, w - left, h - top],
    };
  }

  draw() {
    if (!this.shown) return;
    const ratio = devicePixelRatio || 1;
    const { canvas } = this;
    [canvas.width, canvas.height] = [canvas.clientWidth * ratio, canvas.clientHeight * ratio];
    const c = canvas.getContext("2d");
    c.scale(ratio, ratio);
    c.fillStyle = INK.hull;
    c.fillRect(0, 0, canvas.clientWidth, canvas.clientHeight);
    const rows = this.prepare();
    if (!rows) return note(c, "Residuals stand here once the shot is solved.", 30, 40);
    const { range, selection } = this.desk.state;
    const inside = range ? rows.filter((r) => r.frame >= range[0] && r.frame <= range[1]) : rows;
    const marked = selection.size ? inside.filter((r) => selection.has(r.id)) : [];
    const boxes = this.boxes();
    this.scales = {};
    this.frames(c, boxes.frames, marked);
    this.field(
      c,
      boxes.field,
      inside.filter((r) => !r.aside),
      marked,
    );
    this.depth(c, boxes.depth, inside, marked);
    this.noise(c, boxes.noise, inside, marked);
    c.fillStyle = INK.line;
    c.fillRect(boxes.field[0], 0, 1, canvas.clientHeight);
    c.fillRect(0, boxes.depth[1], canvas.clientWidth, 1);
    if (this.drag) this.brush(c);
    return null;
  }

  frames(c, box, marked) {
    const { attempt, range, frame } = this.desk.state;
    const rows = figuresOf(attempt);
    const x = d3.scaleLinear(
      [attempt.first, attempt.first + rows.length - 1],
      [box[0] + PAD.left, box[0] + box[2] - PAD.right],
    );
    const top = d3.max(rows, (r) => r.high) ?? 1;
    const y = d3
      .scaleLinear(
        [0, Math.max(top, d3.max(attempt.frame_rms) ?? 0) * 1.15],
        [box[1] + box[3] - PAD.bottom, box[1] + PAD.top],
      )
      .clamp(true);
    this.scales.frames = x;
    axes(c, box, x, y, "By frame", "px: band of all tracks, RMS, median, worst", String);
    const line = (of, colour, thick) =>
      path(
        c,
        rows.map((r, k) => [x(attempt.first + k), y(of(r, k) ?? 0)]),
        colour,
        thick,
      );
    c.beginPath();
    rows.forEach((r, k) => c.lineTo(x(attempt.first + k), y(r.high ?? 0)));
    for (let k = rows.length - 1; k >= 0; k -= 1) c.lineTo(x(attempt.first + k), y(rows[k].low ?? 0));
    c.fillStyle = "#4fb3a530";
    c.fill();
    line((r) => r.median, "#ebe5d899", 1);
    line((_r, k) => attempt.frame_rms[k], INK.verdigris, 1.8);
    c.fillStyle = "#d5559a";
    rows.forEach((r, k) => r.worst !== null && c.fillRect(x(attempt.first + k) - 1, y(r.worst) - 1, 2, 2));
    c.fillStyle = INK.amber;
    for (const r of marked) c.fillRect(x(r.frame) - 1, y(r.length) - 1, 2.5, 2.5);
    c.fillRect(x(frame) - 0.5, box[1] + PAD.top, 1, box[3] - PAD.top - PAD.bottom);
    if (range) shade(c, x(range[0]), box[1] + PAD.top, x(range[1]) - x(range[0]), box[3] - PAD.top - PAD.bottom);
  }

  /** Mean residuals over the picture as arrows, lengthened alike; colour says how large they are against the noise. */
  field(c, box, rows, marked) {
    const { width, height } = this.desk.state;
    const scale = Math.min((box[2] - 28) / width, (box[3] - PAD.top - 26) / height);
    const [left, top] = [box[0] + (box[2] - scale * width) / 2, box[1] + PAD.top];
    this.scales.field = { left, top, scale };
    title(c, box, "Over the picture", "");
    c.strokeStyle = INK.line;
    c.strokeRect(left, top, scale * width, scale * height);
    const cells = new Map();
    for (const r of rows) {
      const key =
        Math.min(ROWS - 1, Math.floor((r.y / height) * ROWS)) * COLUMNS +
        Math.min(COLUMNS - 1, Math.floor((r.x / width) * COLUMNS));
      const cell = cells.get(key) ?? { n: 0, dx: 0, dy: 0, squares: 0 };
      cell.n += 1;
      cell.dx += r.dx;
      cell.dy += r.dy;
      cell.squares += r.sigmas * r.sigmas;
      cells.set(key, cell);
    }
    const full = [...cells].filter(([, cell]) => cell.n >= LEAST);
    const longest =
      d3.quantile(
        full.map(([, cell]) => Math.hypot(cell.dx, cell.dy) / cell.n),
        0.95,
      ) || 0.01;
    const gain = 10 ** Math.floor(Math.log10((0.08 * width) / longest));
    for (const [key, cell] of full) {
      const [cx, cy] = [
        left + (((key % COLUMNS) + 0.5) / COLUMNS) * width * scale,
        top + ((Math.floor(key / COLUMNS) + 0.5) / ROWS) * height * scale,
      ];
      const colour = ramp(Math.sqrt(cell.squares / cell.n / 2));
      path(
        c,
        [
          [cx, cy],
          [cx + (cell.dx / cell.n) * scale * gain, cy + (cell.dy / cell.n) * scale * gain],
        ],
        colour,
        2,
      );
      c.fillStyle = colour;
      c.fillRect(cx - 2, cy - 2, 4, 4);
    }
    c.fillStyle = "#f2a33a99";
    for (const r of marked) c.fillRect(left + r.x * scale - 1, top + r.y * scale - 1, 2, 2);
    note(c, `mean residual ×${gain}; drag a box to select tracks`, left, top + scale * height + 16);
  }

  depth(c, box, rows, marked) {
    const known = rows.filter((r) => r.depth > 0);
    if (!known.length) return title(c, box, "Over depth", "nothing has a depth");
    const [low, high] = [d3.quantile(known, 0.01, (r) => r.depth), d3.quantile(known, 0.99, (r) => r.depth)];
    const x = d3
      .scaleLog([Math.max(low, 1e-6), Math.max(high, low * 1.01)], [box[0] + PAD.left, box[0] + box[2] - PAD.right])
      .clamp(true);
    const y = d3.scaleLinear([0, MOST_SIGMAS], [box[1] + box[3] - PAD.bottom, box[1] + PAD.top]).clamp(true);
    this.scales.depth = x;
    axes(c, box, x, y, "Over depth", "over expected noise; units, far to the right");
    const by = new Map();
    for (const r of known) {
      const own = by.get(r.id) ?? { depth: r.depth, squares: 0, n: 0, aside: 0 };
      own.n += 1;
      own.aside += r.aside;
      own.squares += Math.min(r.sigmas, 2 * MOST_SIGMAS) ** 2;
      by.set(r.id, own);
    }
    const chosen = new Set(marked.map((r) => r.id));
    for (const [id, t] of by) {
      const isAside = t.aside > t.n / 2;
      c.fillStyle = chosen.has(id) ? INK.amber : isAside ? "#93a1ab50" : "#4fb3a5b0";
      const size = chosen.has(id) ? 4 : 2.5;
      c.fillRect(x(t.depth) - size / 2, y(Math.sqrt(t.squares / t.n / 2)) - size / 2, size, size);
    }
    return null;
  }

  /** Lengths over expected noise against what noise alone would give (Rayleigh); what was set aside stands hollow. */
  noise(c, box, rows, marked) {
    const x = d3.scaleLinear([0, MOST_SIGMAS], [box[0] + PAD.left, box[0] + box[2] - PAD.right]);
    const counts = [new Float64Array(BINS), new Float64Array(BINS), new Float64Array(BINS)];
    const bin = (r) => Math.min(BINS - 1, Math.floor((r.sigmas / MOST_SIGMAS) * BINS));
    for (const r of rows) counts[r.aside ? 1 : 0][bin(r)] += 1;
    for (const r of marked) counts[2][bin(r)] += 1;
    const total = d3.sum(counts[0]);
    const usual =
      (d3.median(
        rows.filter((r) => !r.aside),
        (r) => r.sigmas,
      ) ?? 1) / 1.1774;
    const step = MOST_SIGMAS / BINS;
    const expected = Array.from(counts[0], (_, k) => {
      const at = (v) => 1 - Math.exp(-0.5 * (v / usual) ** 2);
      return total * (at((k + 1) * step) - at(k * step));
    });
    const y = d3
      .scaleLinear(
        [0, Math.max(d3.max(counts[0]), d3.max(expected)) * 1.1 || 1],
        [box[1] + box[3] - PAD.bottom, box[1] + PAD.top],
      )
      .clamp(true);
    axes(c, box, x, y, "Against the noise", "over expected noise; line: noise alone");
    const wide = x(step) - x(0);
    for (let k = 0; k < BINS; k += 1) {
      c.fillStyle = ramp((k + 0.5) * step);
      c.globalAlpha = 0.75;
      c.fillRect(x(k * step), y(counts[0][k]), wide - 1, y(0) - y(counts[0][k]));
      c.globalAlpha = 1;
      c.strokeStyle = INK.muted;
      if (counts[1][k]) c.strokeRect(x(k * step) + 0.5, y(counts[1][k]), wide - 2, y(0) - y(counts[1][k]));
    }
    path(
      c,
      expected.map((v, k) => [x((k + 0.5) * step), y(v)]),
      INK.sail,
      1.4,
    );
    if (marked.length) {
      const most = d3.max(counts[2]);
      path(
        c,
        Array.from(counts[2], (v, k) => [x((k + 0.5) * step), y((v / most) * y.domain()[1] * 0.8)]),
        INK.amber,
        1.6,
      );
    }
  }

  down(event) {
    if (!this.rows) return;
    const at = [event.offsetX, event.offsetY];
    const name = Object.entries(this.boxes()).find(
      ([, [x, y, w, h]]) => at[0] >= x && at[0] < x + w && at[1] >= y && at[1] < y + h,
    )?.[0];
    this.canvas.setPointerCapture(event.pointerId);
    this.drag = { name, from: at, to: at };
  }

  move(event) {
    if (!this.drag) return;
    this.drag.to = [event.offsetX, event.offsetY];
    this.draw();
  }

  up() {
    const { drag } = this;
    this.drag = null;
    if (!drag) return;
    const [a, z] = [drag.from, drag.to];
    const small = Math.hypot(a[0] - z[0], a[1] - z[1]) < 4;
    const { store } = this.desk;
    if (drag.name === "frames") {
      const ends = [a[0], z[0]].map((v) => Math.round(this.scales.frames.invert(v))).sort((p, q) => p - q);
      const { first, last } = this.desk.state;
      const range = ends.map((f) => Math.min(Math.max(f, first), last));
      if (small) store.set({ frame: range[0], range: null });
      else store.set({ range: range[0] === range[1] ? null : range });
    } else if (small) store.set({ selection: new Set() });
    else store.set({ selection: this.within(drag) });
    this.draw();
  }

  /** The tracks in a brushed part of the picture, or of the depths. */
  within({ name, from, to }) {
    const out = new Set();
    const [x0, x1] = [from[0], to[0]].sort((p, q) => p - q);
    const [y0, y1] = [from[1], to[1]].sort((p, q) => p - q);
    const { left, top, scale } = this.scales.field;
    for (const r of this.rows) {
      if (name === "field") {
        const [px, py] = [left + r.x * scale, top + r.y * scale];
        if (px >= x0 && px <= x1 && py >= y0 && py <= y1) out.add(r.id);
      } else if (name === "depth" && r.depth > 0) {
        const px = this.scales.depth(r.depth);
        if (px >= x0 && px <= x1) out.add(r.id);
      } else if (name === "noise") {
        const [, , w] = this.boxes().noise;
        const x = d3.scaleLinear(
          [0, MOST_SIGMAS],
          [this.boxes().noise[0] + PAD.left, this.boxes().noise[0] + w - PAD.right],
        );
        if (r.sigmas >= x.invert(x0) && r.sigmas <= x.invert(x1)) out.add(r.id);
      }
    }
    return out;
  }

  brush(c) {
    const { from, to } = this.drag;
    shade(c, from[0], from[1], to[0] - from[0], to[1] - from[1]);
  }
}

function title(c, box, words, unit) {
  c.font = "600 13px Barlow";
  c.fillStyle = INK.sail;
  c.fillText(words, box[0] + 12, box[1] + 18);
  const at = box[0] + 20 + c.measureText(words).width;
  c.font = "11.5px Barlow";
  c.fillStyle = INK.muted;
  c.fillText(unit, at, box[1] + 18);
}

function axes(c, box, x, y, name, unit, form = null) {
  title(c, box, name, unit);
  c.font = "10.5px 'JetBrains Mono'";
  for (const v of y.ticks(4)) {
    c.fillStyle = "#2b384499";
    c.fillRect(box[0] + PAD.left, Math.round(y(v)), box[2] - PAD.left - PAD.right, 1);
    c.fillStyle = INK.muted;
    c.textAlign = "right";
    c.fillText(v, box[0] + PAD.left - 6, y(v) + 4);
  }
  c.textAlign = "center";
  const words = form ?? x.tickFormat(6);
  for (const v of x.ticks(6))
    if (words(v) && x(v) < box[0] + box[2] - PAD.right - 8) c.fillText(words(v), x(v), box[1] + box[3] - 8);
  c.textAlign = "left";
}

function path(c, points, colour, width) {
  c.beginPath();
  for (const p of points) c.lineTo(...p);
  c.strokeStyle = colour;
  c.lineWidth = width;
  c.stroke();
}

function shade(c, x, y, w, h) {
  c.fillStyle = "#f2a33a26";
  c.fillRect(x, y, w, h);
  c.strokeStyle = INK.amber;
  c.lineWidth = 1;
  c.strokeRect(x, y, w, h);
}

function note(c, words, x, y) {
  c.font = "11.5px Barlow";
  c.fillStyle = INK.muted;
  c.fillText(words, x, y);
}
