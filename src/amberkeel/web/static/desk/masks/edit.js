// Drawing and editing masks on the plate with the pointer. Every finished gesture is one change sent to the server.
import { within } from "../viewport/within.js";
import { frameHandles, turnHandle } from "./draw.js";
import {
  alive,
  bounds,
  corners,
  ellipse,
  flatten,
  keyFrames,
  nearest,
  pointsAt,
  rectangle,
  smooth,
  split,
  turned,
} from "./shapes.js";

const GRAB = 9;
/** Screen pixels between the spots of a stroke. */
const STROKE = 14;
const far = (a, b) => Math.hypot(a[0] - b[0], a[1] - b[1]);

export class MaskEditor {
  /** `send` has add(points), change(mask, values, label) and spot(alter), which changes the samples. */
  constructor(store, viewport, send) {
    Object.assign(this, {
      store,
      viewport,
      send,
      draft: null,
      points: null,
      point: -1,
      grip: null,
      pivots: new Map(),
      tried: null,
    });
  }

  get mask() {
    return this.store.state.masks?.masks.find((m) => m.id === this.store.state.mask);
  }
  /** Whether a shape is under way: only it changes then. */
  get dragging() {
    return Boolean(this.grip && this.points);
  }
  get active() {
    return this.store.state.stage === "masks";
  }
  get editable() {
    const m = this.mask;
    return m?.kind === "shape" && alive(m, this.store.state.frame) ? m : null;
  }

  now(mask) {
    return pointsAt(mask, this.store.state.frame);
  }

  /** What a shape turns and scales about: its middle, or where the cross was dragged relative to it. */
  pivotAt(mask) {
    const points = this.points ?? this.now(mask);
    const [x0, y0, x1, y1] = bounds(points);
    const [u, v] = this.pivots.get(mask.id) ?? [0.5, 0.5];
    return [x0 + u * (x1 - x0), y0 + v * (y1 - y0)];
  }

  down(event, at) {
    if (!this.active) return false;
    const here = this.viewport.toPlate(...at);
    const tool = this.store.state.maskTool;
    if (tool === "is" || tool === "isnot") return this.spot(here, tool === "is");
    if (tool === "polygon" || tool === "curve") return this.drawPoint(here, at, tool);
    if (tool === "rectangle" || tool === "ellipse") {
      this.grip = { kind: tool, from: here };
      return true;
    }
    return this.take(event, at, here);
  }

  /** A spot, or the first of a stroke: spots along a drag. */
  spot(here, subject) {
    const tenth = (v) => Math.round(v * 10) / 10;
    const at = (p) => [this.store.state.frame, tenth(p[0]), tenth(p[1]), subject];
    this.grip = { kind: "stroke", spots: [at(here)], at };
    return true;
  }

  /** Go on with a stroke. */
  stroke({ spots, at }, here) {
    const [, x, y] = spots.at(-1);
    const { toScreen } = this.viewport;
    if (far(toScreen(x, y), toScreen(...here)) >= STROKE) spots.push(at(here));
  }

  /** Keep a stroke; a single click on a spot takes that away. */
  keepStroke({ spots }) {
    const [[frame, x, y]] = spots;
    const { toScreen } = this.viewport;
    const near = ([f, u, v]) => f === frame && far(toScreen(u, v), toScreen(x, y)) < GRAB;
    const gone = spots.length === 1;
    this.send.spot((own) => (gone && own.some(near) ? own.filter((s) => !near(s)) : [...own, ...spots]));
  }

  drawPoint(here, at, tool) {
    const draft = this.draft ?? { points: [], tool };
    const [first] = draft.points;
    if (first && draft.points.length > 2 && far(this.viewport.toScreen(...first), at) < GRAB) this.finish();
    else {
      draft.points.push(here);
      this.draft = draft;
    }
    this.viewport.redraw();
    return true;
  }

  /** Close what is being drawn and send it. */
  finish() {
    const { draft } = this;
    if (!draft) return;
    this.draft = null;
    const points = draft.closed ? draft.points : draft.tool === "curve" ? smooth(draft.points) : corners(draft.points);
    this.viewport.redraw();
    this.send.add(points);
  }

  /** Give up what is being drawn; tells whether there was something. */
  cancel() {
    const was = Boolean(this.draft || this.points);
    this.draft = this.points = this.grip = null;
    this.viewport.redraw();
    return was;
  }

  /** Take hold of a handle, a point, the outline or the inside of a shape. */
  take(event, at, here) {
    const mask = this.editable;
    if (mask) {
      const points = this.now(mask);
      const toScreen = this.viewport.toScreen;
      const begin = (kind, more = {}) => {
        this.grip = { kind, mask, base: points, from: here, pivot: this.pivotAt(mask), ...more };
        this.viewport.redraw();
        return true;
      };
      if (this.point >= 0 && points[this.point]) {
        const p = points[this.point];
        for (const n of [2, 4])
          if (Math.hypot(p[n], p[n + 1]) > 1e-9 && far(toScreen(p[0] + p[n], p[1] + p[n + 1]), at) < GRAB)
            return begin("tangent", { k: this.point, n });
      }
      const k = points.findIndex((p) => far(toScreen(p[0], p[1]), at) < GRAB);
      if (k >= 0) {
        this.point = k;
        if (event.altKey) return this.toggleCorner(mask, points, k);
        return begin("point", { k });
      }
      if (far(toScreen(...this.pivotAt(mask)), at) < GRAB) return begin("pivot");
      if (far(turnHandle(points, toScreen), at) < GRAB) return begin("turn");
      if (frameHandles(points, toScreen).some((h) => far(h, at) < GRAB)) return begin("scale");
      const near = nearest(points, here);
      if (near.distance * this.viewport.scale < 6) return this.insert(mask, near);
      this.point = -1;
      if (within(flatten(points), ...here)) return begin("move");
    }
    return this.choose(here);
  }

  /** Choose the topmost shape under the pointer. */
  choose(here) {
    const { masks, frame } = this.store.state;
    const hit = [...(masks?.masks ?? [])]
      .reverse()
      .find((m) => m.kind === "shape" && alive(m, frame) && within(flatten(pointsAt(m, frame)), ...here));
    if (!hit) return false;
    this.point = -1;
    this.store.set({ mask: hit.id });
    return true;
  }

  move(event, at) {
    if (!this.active) return;
    const here = this.viewport.toPlate(...at);
    if (this.draft && !this.draft.closed) {
      this.draft.hover = here;
      this.viewport.redraw();
    }
    if (!this.grip) return;
    const { grip } = this;
    if (grip.kind === "rectangle" || grip.kind === "ellipse") {
      if (far(this.viewport.toScreen(...grip.from), at) > 3)
        this.draft = { closed: true, points: (grip.kind === "ellipse" ? ellipse : rectangle)(grip.from, here) };
    } else if (grip.kind === "pivot") {
      const [x0, y0, x1, y1] = bounds(grip.base);
      this.pivots.set(grip.mask.id, [(here[0] - x0) / Math.max(x1 - x0, 1), (here[1] - y0) / Math.max(y1 - y0, 1)]);
    } else if (grip.kind === "stroke") this.stroke(grip, here);
    else this.points = this.dragged(grip, here, event.shiftKey);
    this.viewport.redraw();
  }

  dragged({ kind, base, from, pivot, k, n }, here, held) {
    const d = [here[0] - from[0], here[1] - from[1]];
    if (kind === "move") return base.map((p) => [p[0] + d[0], p[1] + d[1], ...p.slice(2)]);
    if (kind === "point") return base.map((p, i) => (i === k ? [p[0] + d[0], p[1] + d[1], ...p.slice(2)] : p));
    if (kind === "tangent") {
      return base.map((p, i) => {
        if (i !== k) return p;
        const out = [...p];
        [out[n], out[n + 1]] = [here[0] - p[0], here[1] - p[1]];
        const other = n === 2 ? 4 : 2;
        if (!held) {
          const length = Math.hypot(p[other], p[other + 1]) / Math.max(Math.hypot(out[n], out[n + 1]), 1e-9);
          [out[other], out[other + 1]] = [-out[n] * length, -out[n + 1] * length];
        }
        return out;
      });
    }
    const [a, b] = [
      [from[0] - pivot[0], from[1] - pivot[1]],
      [here[0] - pivot[0], here[1] - pivot[1]],
    ];
    if (kind === "scale")
      return turned(
        base,
        0,
        Math.log(Math.max(Math.hypot(...b) / Math.max(Math.hypot(...a), 1e-6), 0.02)),
        pivot,
        pivot,
      );
    const angle = Math.atan2(b[1], b[0]) - Math.atan2(a[1], a[0]);
    return turned(base, held ? Math.round(angle / (Math.PI / 12)) * (Math.PI / 12) : angle, 0, pivot, pivot);
  }

  up() {
    const { grip, points } = this;
    this.grip = null;
    if (!grip) return;
    if (grip.kind === "stroke") return this.keepStroke(grip);
    if (grip.kind === "rectangle" || grip.kind === "ellipse") return this.finish();
    if (!points) return;
    const words = { move: "Move", point: "Move a point of", tangent: "Bend", scale: "Scale", turn: "Turn" }[grip.kind];
    this.setKey(grip.mask, points, `${words} ${grip.mask.name}`);
    this.points = null;
  }

  /** Set the key of this frame by hand. */
  setKey(mask, points, label) {
    const { frame } = this.store.state;
    const rounded = points.map((p) => p.map((v) => Math.round(v * 1000) / 1000));
    mask.keys = { ...mask.keys, [frame]: { points: rounded, by: "hand", confidence: 1 } };
    this.send.change(mask, { keys: mask.keys }, label);
  }

  /** Change every key alike, so that all keep the same points. */
  everyKey(mask, alter, label) {
    mask.keys = Object.fromEntries(
      Object.entries(mask.keys).map(([f, key]) => [f, { ...key, points: alter(key.points) }]),
    );
    this.send.change(mask, { keys: mask.keys }, label);
    this.viewport.redraw();
    return true;
  }

  insert(mask, { segment, t }) {
    this.point = segment + 1;
    return this.everyKey(mask, (points) => split(points, segment, t), `Insert a point in ${mask.name}`);
  }

  toggleCorner(mask, points, k) {
    const isCorner = points[k].slice(2).every((v) => Math.abs(v) < 1e-9);
    return this.everyKey(
      mask,
      (own) => own.map((p, i) => (i !== k ? p : isCorner ? smooth(own)[k] : [p[0], p[1], 0, 0, 0, 0])),
      `${isCorner ? "Round" : "Sharpen"} a point of ${mask.name}`,
    );
  }

  /** Remove the chosen point; tells whether there was one. */
  removePoint() {
    const mask = this.editable;
    if (!mask || this.point < 0) return false;
    const { point } = this;
    if (this.now(mask).length <= 3) return false;
    this.point = -1;
    return this.everyKey(mask, (points) => points.filter((_, k) => k !== point), `Remove a point of ${mask.name}`);
  }

  nudge(dx, dy) {
    const mask = this.editable;
    if (!mask) return false;
    this.setKey(
      mask,
      this.now(mask).map((p) => [p[0] + dx, p[1] + dy, ...p.slice(2)]),
      `Move ${mask.name}`,
    );
    return true;
  }

  /** Remove the key at this frame, or the given one. */
  removeKey(frame = this.store.state.frame) {
    const mask = this.mask;
    if (mask?.kind !== "shape" || !mask.keys[frame] || keyFrames(mask).length < 2) return;
    const { [frame]: gone, ...rest } = mask.keys;
    mask.keys = rest;
    this.send.change(mask, { keys: rest }, `Remove the key at ${frame}`);
  }

  moveKey(from, to) {
    const mask = this.mask;
    if (mask?.kind !== "shape" || from === to || !mask.keys[from]) return;
    const { [from]: moved, ...rest } = mask.keys;
    mask.keys = { ...rest, [to]: { ...moved, by: "hand" } };
    this.send.change(mask, { keys: mask.keys }, `Move the key from ${from} to ${to}`);
  }
}
