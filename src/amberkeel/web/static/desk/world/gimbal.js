// A gimbal: spars to move along, quadrants to turn about, a patch to slide on, and a knob for the size.
//
// A pose is { at: [x, y, z], axes: three unit vectors, length } in the world; `project` takes a point of the world to
// the screen, null where it cannot be seen. A change is { axis, radians, move, scale } of the pose.
import { INK } from "../shell/colour.js";
import { within } from "../viewport/within.js";

const NAMES = ["X", "Y", "Z"];

/** Radius of a quadrant over a spar, and where it begins and ends, radians. */
const QUADRANT = 0.74;
const [FROM, TO] = [0.3, Math.PI / 2 - 0.3];
const STEPS = 16;

/** Corners of the patch that slides on the level, over a spar. */
const PATCH = [0.14, 0.4];

/** Where the knob for the size hangs, screen pixels from the middle. */
const KNOB = [-44, 44];

const NEAR_PX = 8;

/** Finest angle, radians, and the finest share of a size. */
const FINEST = Math.PI / 18000;
const FINEST_SIZE = 1e-4;

export const NOTHING = { axis: null, radians: 0, move: [0, 0, 0], scale: 1 };

const plus = (a, b, k = 1) => a.map((v, i) => v + k * b[i]);

/** A vector turned about a unit axis. */
function turned(v, axis, angle) {
  const [c, s] = [Math.cos(angle), Math.sin(angle)];
  const along = axis.reduce((sum, a, i) => sum + a * v[i], 0) * (1 - c);
  const [x, y, z] = axis;
  const cross = [y * v[2] - z * v[1], z * v[0] - x * v[2], x * v[1] - y * v[0]];
  return v.map((w, i) => c * w + s * cross[i] + along * axis[i]);
}

/** The pose after a change. */
export function changed(pose, { axis, radians, move, scale }) {
  const axes = axis === null ? pose.axes : pose.axes.map((a) => turned(a, pose.axes[axis], radians));
  return { at: plus(pose.at, move), axes, length: pose.length * scale };
}

function onQuadrant({ at, axes, length }, axis, angle) {
  const [a, b] = [axes[(axis + 1) % 3], axes[(axis + 2) % 3]];
  const radius = QUADRANT * length;
  return plus(plus(at, a, radius * Math.cos(angle)), b, radius * Math.sin(angle));
}

function onPatch({ at, axes, length }, u, w) {
  return plus(plus(at, axes[0], u * length), axes[2], w * length);
}

function quadrant(pose, axis) {
  return Array.from({ length: STEPS + 1 }, (_, k) => onQuadrant(pose, axis, FROM + ((TO - FROM) * k) / STEPS));
}

function patch(pose) {
  const [a, b] = PATCH;
  return [
    [a, a],
    [b, a],
    [b, b],
    [a, b],
  ].map(([u, w]) => onPatch(pose, u, w));
}

const spar = (pose, axis) => [pose.at, plus(pose.at, pose.axes[axis], pose.length)];

/** A line of the world on the screen, null where a part of it cannot be seen. */
function lineOn(points, project) {
  const out = points.map(project);
  return out.every(Boolean) ? out : null;
}

/** The part of a gimbal under a point of the screen: { kind, axis }, or null. */
export function partAt(pose, project, [x, y]) {
  const middle = project(pose.at);
  if (!middle) return null;
  if (Math.hypot(middle[0] + KNOB[0] - x, middle[1] + KNOB[1] - y) < NEAR_PX + 2) return { kind: "size", axis: null };
  let [best, found] = [NEAR_PX, null];
  for (const axis of [0, 1, 2])
    for (const [kind, points] of [
      ["turn", quadrant(pose, axis)],
      ["move", spar(pose, axis)],
    ]) {
      const line = lineOn(points, project);
      const d = line ? distanceTo(line, [x, y]) : Number.POSITIVE_INFINITY;
      if (d < best) [best, found] = [d, { kind, axis }];
    }
  if (found) return found;
  const corners = lineOn(patch(pose), project);
  return corners && within(corners, x, y) ? { kind: "slide", axis: 1 } : null;
}

function distanceTo(line, [x, y]) {
  let best = Number.POSITIVE_INFINITY;
  for (let k = 0; k + 1 < line.length; k++) {
    const [[ax, ay], [bx, by]] = [line[k], line[k + 1]];
    const [dx, dy] = [bx - ax, by - ay];
    const t = Math.min(Math.max(((x - ax) * dx + (y - ay) * dy) / (dx * dx + dy * dy || 1), 0), 1);
    best = Math.min(best, Math.hypot(ax + t * dx - x, ay + t * dy - y));
  }
  return best;
}

/** What a part does as one or two figures: the place in the world of the grabbed spot for them. */
function track(pose, { kind, axis }) {
  if (kind === "move") return (v) => plus(pose.at, pose.axes[axis], v[0]);
  if (kind === "turn") return (v) => onQuadrant(pose, axis, v[0]);
  return (v) => onPatch(pose, v[0], v[1]);
}

const START = {
  move: ({ length }) => [length / 2],
  turn: () => [(FROM + TO) / 2],
  slide: () => [0.27, 0.27],
};

/** The longest step of a figure in one round of the search: spars in lengths of theirs, angles, shares. */
const LONGEST = { move: ({ length }) => length / 2, turn: () => 0.4, slide: () => 0.5 };

/** The figures for which a part's spot lies nearest to a point of the screen, from those before (Gauss-Newton). */
export function figuresAt(pose, part, project, at, before = START[part.kind](pose)) {
  const place = track(pose, part);
  const longest = LONGEST[part.kind](pose);
  let v = [...before];
  for (let round = 0; round < 12; round++) {
    const here = project(place(v));
    if (!here) return before;
    const e = [at[0] - here[0], at[1] - here[1]];
    const columns = v.map((_, k) => {
      const step = longest * 1e-4;
      const there = project(place(v.map((w, j) => (j === k ? w + step : w))));
      return there ? [(there[0] - here[0]) / step, (there[1] - here[1]) / step] : [0, 0];
    });
    const by = solved(columns, e).map((d) => Math.min(Math.max(d, -longest), longest));
    v = v.map((w, k) => w + by[k]);
    if (by.every((d) => Math.abs(d) < longest * 1e-7)) break;
  }
  return v;
}

/** Least squares for one or two unknowns. */
function solved(columns, e) {
  const dot = (a, b) => a[0] * b[0] + a[1] * b[1];
  if (columns.length === 1) return [dot(columns[0], e) / (dot(columns[0], columns[0]) || 1)];
  const [a, b] = columns;
  const det = dot(a, a) * dot(b, b) - dot(a, b) ** 2;
  if (det < 1e-9 * dot(a, a) * dot(b, b)) return [0, 0];
  return [(dot(b, b) * dot(a, e) - dot(a, b) * dot(b, e)) / det, (dot(a, a) * dot(b, e) - dot(a, b) * dot(a, e)) / det];
}

/** The change that dragging a part from one point of the screen to another makes, in its finest steps. */
export class Drag {
  constructor(pose, part, project, at) {
    Object.assign(this, { pose, part, from: at });
    if (part.kind !== "size") this.start = figuresAt(pose, part, project, at);
    this.now = this.start;
    this.change = NOTHING;
  }

  to(at, project, fine) {
    // Held fine, the pointer counts a tenth.
    const eased = fine ? this.from.map((v, k) => v + (at[k] - v) / 10) : at;
    this.change = this.part.kind === "size" ? this.sized(eased, project) : this.dragged(eased, project);
    return this.change;
  }

  sized(at, project) {
    const middle = project(this.pose.at);
    if (!middle) return this.change;
    const away = (p) => Math.max(Math.hypot(p[0] - middle[0], p[1] - middle[1]), 4);
    return { ...NOTHING, scale: rounded(away(at) / away(this.from), FINEST_SIZE) };
  }

  dragged(at, project) {
    this.now = figuresAt(this.pose, this.part, project, at, this.now);
    const by = this.now.map((v, k) => v - this.start[k]);
    const { axes, length } = this.pose;
    const { kind, axis } = this.part;
    if (kind === "turn") return { ...NOTHING, axis, radians: rounded(by[0], FINEST) };
    const step = 10 ** (Math.floor(Math.log10(length)) - 2);
    if (kind === "move") return { ...NOTHING, move: axes[axis].map((v) => v * rounded(by[0], step)) };
    const [u, w] = by.map((v) => rounded(v * length, step));
    return {
      ...NOTHING,
      move: plus(
        axes[0].map((v) => v * u),
        axes[2],
        w,
      ),
    };
  }

  /** What is said beside the gimbal: the change, and which axis it keeps. */
  words(unit) {
    const { axis, radians, move, scale } = this.change;
    if (this.part.kind === "turn")
      return [`${((radians * 180) / Math.PI).toFixed(2)}° about ${NAMES[axis]}`, `${NAMES[axis]} is kept`];
    if (this.part.kind === "size") return [`size × ${scale.toFixed(4)}`, "the axes are kept"];
    const along = this.part.kind === "move" ? `along ${NAMES[this.part.axis]}` : "on the level";
    return [`${Math.hypot(...move).toPrecision(3)} ${unit} ${along}`, "the axes are kept"];
  }
}

const rounded = (value, step) => Math.round(value / step) * step;

/** Draw a gimbal; `held` is the part that is dragged or lies under the pointer. */
export function drawGimbal(c, pose, project, held) {
  const middle = project(pose.at);
  if (!middle) return;
  const isHeld = (kind, axis) => held?.kind === kind && held.axis === axis;
  c.lineCap = "round";
  const corners = lineOn(patch(pose), project);
  if (corners) {
    c.beginPath();
    for (const p of corners) c.lineTo(...p);
    c.closePath();
    c.fillStyle = isHeld("slide", 1) ? "#f2a33a90" : "#ebe5d83d";
    c.fill();
  }
  for (const axis of [0, 1, 2]) {
    drawQuadrant(c, pose, project, axis, isHeld("turn", axis));
    drawSpar(c, pose, project, axis, isHeld("move", axis));
  }
  drawKnob(c, middle, isHeld("size", null));
}

function drawSpar(c, pose, project, axis, isHeld) {
  const line = lineOn(spar(pose, axis), project);
  if (!line) return;
  const [[ax, ay], [bx, by]] = line;
  stroked(c, line, isHeld ? INK.amber : INK.sail, isHeld ? 4 : 2.5);
  const long = Math.hypot(bx - ax, by - ay) || 1;
  const [ux, uy] = [(bx - ax) / long, (by - ay) / long];
  // The peg across its end, and its letter.
  const peg = [
    [bx - 6 * uy, by + 6 * ux],
    [bx + 6 * uy, by - 6 * ux],
  ];
  stroked(c, peg, isHeld ? INK.amber : INK.sail, 3);
  c.font = "600 13px Barlow";
  c.textAlign = "center";
  inked(c, NAMES[axis], bx + 14 * ux, by + 14 * uy + 4, isHeld ? INK.amber : INK.sail);
  c.textAlign = "left";
}

function drawQuadrant(c, pose, project, axis, isHeld) {
  const line = lineOn(quadrant(pose, axis), project);
  if (!line) return;
  stroked(c, line, isHeld ? INK.amber : INK.verdigris, isHeld ? 4 : 2);
  for (let k = 0; k <= STEPS; k += STEPS / 4) {
    const angle = FROM + ((TO - FROM) * k) / STEPS;
    const long = k === STEPS / 2 ? 0.13 : 0.07;
    const inner = { ...pose, length: pose.length * (1 - long) };
    const tick = lineOn([onQuadrant(inner, axis, angle), onQuadrant(pose, axis, angle)], project);
    if (tick) stroked(c, tick, isHeld ? INK.amber : INK.verdigris, 1.5);
  }
}

function drawKnob(c, [x, y], isHeld) {
  const [kx, ky] = [x + KNOB[0], y + KNOB[1]];
  const colour = isHeld ? INK.amber : INK.sail;
  c.setLineDash([3, 4]);
  stroked(
    c,
    [
      [x, y],
      [kx, ky],
    ],
    colour,
    1.5,
  );
  c.setLineDash([]);
  c.beginPath();
  c.rect(kx - 5.5, ky - 5.5, 11, 11);
  c.fillStyle = INK.hull;
  c.fill();
  c.strokeStyle = colour;
  c.lineWidth = 2;
  c.stroke();
  c.font = "12px Barlow";
  inked(c, "size", kx - 34, ky + 4, colour);
}

function stroked(c, line, colour, width) {
  c.beginPath();
  for (const p of line) c.lineTo(...p);
  // A dark edge keeps it legible over any plate.
  c.strokeStyle = "#10161cb0";
  c.lineWidth = width + 2.5;
  c.stroke();
  c.strokeStyle = colour;
  c.lineWidth = width;
  c.stroke();
}

function inked(c, text, x, y, colour) {
  c.strokeStyle = "#10161cd0";
  c.lineWidth = 3;
  c.strokeText(text, x, y);
  c.fillStyle = colour;
  c.fillText(text, x, y);
}

/** Draw the level of a pose as squares about its foot, with what it says. */
export function drawLevel(c, pose, project, cell) {
  const reach = 5;
  c.strokeStyle = "#f2a33a8c";
  c.lineWidth = 1;
  for (let k = -reach; k <= reach; k++)
    for (const [a, b] of [
      [0, 2],
      [2, 0],
    ]) {
      c.beginPath();
      let drawing = false;
      for (let j = -2 * reach; j <= 2 * reach; j++) {
        const p = project(plus(plus(pose.at, pose.axes[a], k * cell), pose.axes[b], (j / 2) * cell));
        if (p && drawing) c.lineTo(...p);
        else if (p) c.moveTo(...p);
        drawing = Boolean(p);
      }
      c.stroke();
    }
}

/** Say something beside a point of the screen. */
export function saidAt(c, [x, y], lines) {
  c.font = "13px Barlow";
  const width = Math.max(...lines.map((line) => c.measureText(line).width)) + 16;
  c.fillStyle = "#10161ce0";
  c.fillRect(x + 20, y - 54, width, lines.length * 17 + 9);
  c.fillStyle = INK.amber;
  lines.forEach((line, k) => c.fillText(line, x + 28, y - 36 + 17 * k));
}
