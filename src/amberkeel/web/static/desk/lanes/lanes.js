// Lanes under the viewport: one frame axis, the playhead, and figures by frame. Any lane chooses a range.
import { INK } from "../shell/colour.js";
import { CARRY } from "../tracks/reach.js";
import { bodyShown, drawBody, liveOf } from "./body.js";
import { drawCamera } from "./camera.js";
import { Curves } from "./curves.js";
import { drawResiduals } from "./residual.js";
import { drawSlip } from "./slip.js";

const RULER = 22;
const LEFT = 92;

export class Lanes {
  constructor(canvas, store) {
    this.canvas = canvas;
    this.store = store;
    this.drag = null;
    this.guest = null;
    this.curves = new Curves(store);
    this.still = document.createElement("canvas");
    new ResizeObserver(() => this.draw()).observe(canvas);
    canvas.addEventListener("pointerdown", (e) => {
      canvas.setPointerCapture(e.pointerId);
      const box = !e.shiftKey && this.curves.begins([e.offsetX, e.offsetY]);
      this.drag = { brush: e.shiftKey, from: this.frameAt(e.offsetX), key: this.keyAt(e), box };
      if (!box) this.pull(e);
    });
    canvas.addEventListener("pointermove", (e) => this.drag && this.pull(e));
    canvas.addEventListener("pointerup", (e) => {
      if (this.drag?.box) {
        this.drag = null;
        if (!this.curves.end(this.axis(), e.ctrlKey || e.metaKey)) store.set({ frame: this.frameAt(e.offsetX) });
        this.draw(true);
        return;
      }
      if (this.drag?.key != null) this.guest?.moveKey(this.drag.key, this.frameAt(e.offsetX));
      this.drag = null;
    });
    canvas.addEventListener("dblclick", () => store.set({ range: null }));
  }

  axis() {
    const { first, last } = this.store.state;
    return d3.scaleLinear([first - 0.5, last + 0.5], [LEFT, this.canvas.clientWidth - 12]);
  }

  frameAt(x) {
    const { first, last } = this.store.state;
    return Math.min(Math.max(Math.round(this.axis().invert(x)), first), last);
  }

  pull(event) {
    if (this.drag.box) {
      this.curves.pull([event.offsetX, event.offsetY]);
      this.draw(true);
      return null;
    }
    const at = this.frameAt(event.offsetX);
    if (!this.drag.brush) return this.store.set({ frame: at });
    const range = [Math.min(this.drag.from, at), Math.max(this.drag.from, at)];
    return this.store.set({ range: range[0] === range[1] ? null : range, frame: at });
  }

  /** Draw all lanes, or only move the playhead over what is already drawn. */
  draw(playhead = false) {
    const { canvas, still } = this;
    const ratio = devicePixelRatio || 1;
    const [width, height] = [canvas.clientWidth, canvas.clientHeight];
    if (!width) return;
    if (!playhead || still.width !== Math.round(width * ratio)) this.drawStill(width, height, ratio);
    const c = canvas.getContext("2d", { willReadFrequently: true });
    c.setTransform(1, 0, 0, 1, 0, 0);
    c.drawImage(still, 0, 0);
    c.scale(ratio, ratio);
    this.curves.drawBox(c);
    this.marks(c, this.axis(), width, height);
  }

  drawStill(width, height, ratio) {
    for (const sized of [this.canvas, this.still]) {
      sized.width = Math.round(width * ratio);
      sized.height = Math.round(height * ratio);
    }
    const c = this.still.getContext("2d", { willReadFrequently: true });
    c.fillStyle = INK.panel;
    c.fillRect(0, 0, this.still.width, this.still.height);
    c.scale(ratio, ratio);
    const x = this.axis();
    const room = (height - RULER) / 2;
    this.ruler(c, x, width);
    if (this.store.state.stage === "tracks") {
      const small = Math.round((height - RULER) * 0.28);
      this.curves.draw(this, c, x, RULER, height - RULER - 2 * small);
      this.counts(c, x, height - 2 * small, small);
      this.blur(c, x, height - small, small);
      return;
    }
    if (this.store.state.stage === "masks") {
      this.keys(c, x, RULER, room);
      this.cover(c, x, RULER + room, room);
      return;
    }
    const { first, last } = this.store.state;
    const body = bodyShown(this.store.state);
    if (body) {
      drawBody(body, this, c, x, RULER, room);
      this.counts(c, x, RULER + room, room, { values: liveOf(body, first, last), floor: 0 });
      return;
    }
    const camera = this.store.state.lane !== "residual" && ["solve", "world"].includes(this.store.state.stage);
    if (camera && this.store.state.lane === "slip") drawSlip(this, c, x, RULER, room);
    else if (camera) drawCamera(this, c, x, RULER, room);
    else drawResiduals(this, c, x, RULER, room);
    this.counts(c, x, RULER + room, room);
  }

  /** Keys of the chosen shape as pennants, and how sure following was between them. */
  keys(c, x, top, room) {
    const { masks, mask: id, first, last } = this.store.state;
    const mask = masks?.masks.find((m) => m.id === id);
    const y = d3.scaleLinear([0, 1], [top + room - 3, top + 5]);
    if (mask?.kind === "matte") this.title(c, top, "Matte", "frames, samples", d3.scaleLinear([0, 0], [0, 0]), room);
    else this.title(c, top, "Keys", "and confidence", y, room);
    if (mask?.kind === "matte") return this.mattes(c, x, top, room, mask);
    if (!mask) return this.empty(c, top, room, "when a shape is chosen");
    const width = Math.max(1, x(first + 1) - x(first) - 1);
    for (const [f, key] of Object.entries(mask.keys)) {
      const at = x(Number(f));
      if (key.by !== "hand") {
        c.fillStyle = key.confidence < 0.45 ? INK.orchid : "#4fb3a599";
        c.fillRect(at - width / 2, y(key.confidence), width, y(0) - y(key.confidence));
        continue;
      }
      c.strokeStyle = c.fillStyle = INK.amber;
      c.lineWidth = 1.5;
      c.beginPath();
      c.moveTo(at, y(0));
      c.lineTo(at, y(1) + 2);
      c.stroke();
      c.beginPath();
      c.moveTo(at, y(1) + 2);
      c.lineTo(at + 9, y(1) + 7);
      c.lineTo(at, y(1) + 12);
      c.fill();
    }
    c.fillStyle = "#0b1014aa";
    if (mask.first != null) c.fillRect(x(first - 0.5), top, x(mask.first - 0.5) - x(first - 0.5), room);
    if (mask.last != null) c.fillRect(x(mask.last + 0.5), top, x(last + 0.5) - x(mask.last + 0.5), room);
    return null;
  }

  /** Which frames a matte has, and on which it was sampled. */
  mattes(c, x, top, room, mask) {
    const { first } = this.store.state;
    const width = Math.max(1, x(first + 1) - x(first) - 1);
    c.fillStyle = "#93a1ab80";
    for (const f of Object.keys(mask.mattes))
      c.fillRect(x(Number(f)) - width / 2, top + room * 0.45, width, room * 0.3);
    c.fillStyle = INK.amber;
    for (const f of new Set(mask.samples.map((s) => s[0]))) c.fillRect(x(f) - 1.5, top + room * 0.25, 3, room * 0.5);
  }

  cover(c, x, top, room) {
    const { masks, first } = this.store.state;
    const values = (masks?.cover ?? []).map((v) => 100 * v);
    const y = d3.scaleLinear([0, Math.max(5, d3.max(values) ?? 0) * 1.15], [top + room - 3, top + 5]);
    this.title(c, top, "Mask cover", "% of picture", y, room);
    if (!masks?.masks.length) return this.empty(c, top, room, "when something is masked");
    const width = Math.max(1, x(first + 1) - x(first) - 1);
    const bare = new Set(masks.leaks.map(([frame]) => frame));
    values.forEach((v, k) => {
      c.fillStyle = v > 99 ? INK.orchid : "#93a1ab99";
      c.fillRect(x(first + k) - width / 2, y(v), width, y(0) - y(v));
      if (!bare.has(first + k)) return;
      c.fillStyle = INK.orchid;
      c.beginPath();
      c.moveTo(x(first + k), top + 4);
      c.lineTo(x(first + k) + 4, top + 11);
      c.lineTo(x(first + k) - 4, top + 11);
      c.fill();
    });
    return null;
  }

  /** The key of the chosen shape under the pointer, if any. */
  keyAt(event) {
    const { stage, masks, mask: id } = this.store.state;
    const mask = masks?.masks.find((m) => m.id === id);
    const room = (this.canvas.clientHeight - RULER) / 2;
    if (stage !== "masks" || mask?.kind !== "shape" || event.offsetY < RULER || event.offsetY > RULER + room)
      return null;
    const frame = this.frameAt(event.offsetX);
    const near = [frame, frame - 1].find(
      (f) => mask.keys[f]?.by === "hand" && Math.abs(this.axis()(f) + 3 - event.offsetX) < 8,
    );
    return near ?? null;
  }

  ruler(c, x, width) {
    c.font = "11px 'JetBrains Mono'";
    c.fillStyle = INK.muted;
    c.textAlign = "center";
    for (const f of x.ticks(Math.floor(width / 90)).filter(Number.isInteger)) {
      c.fillText(f, x(f), 14);
      c.fillRect(Math.round(x(f)), 17, 1, 5);
    }
    c.textAlign = "left";
  }

  /** A lane's name, unit and figures; the figures stand inside the plot where a control takes their place. */
  title(c, top, text, unit, y, room, inside = false) {
    c.fillStyle = INK.line;
    c.fillRect(0, top, this.canvas.clientWidth, 1);
    c.fillStyle = INK.sail;
    c.font = "500 12px Barlow";
    c.fillText(text, 10, top + 18);
    c.fillStyle = INK.muted;
    c.font = "11px Barlow";
    c.fillText(unit, 10, top + 33);
    c.font = "10.5px 'JetBrains Mono'";
    c.textAlign = inside ? "left" : "right";
    const [low, high] = y.domain();
    for (const v of low === high ? [] : y.ticks(2)) {
      if (y(v) < top + 8 || y(v) > top + room - 6) continue;
      c.fillStyle = INK.muted;
      c.fillText(v, inside ? LEFT + 4 : LEFT - 5, y(v) + (inside ? -3 : 4));
      c.fillStyle = "#2b384488";
      c.fillRect(LEFT, Math.round(y(v)), this.canvas.clientWidth - LEFT - 12, 1);
    }
    c.textAlign = "left";
  }

  ofShot() {
    const { tracks, floor } = this.store.state;
    return { values: tracks?.ids.length ? tracks.live : [], floor };
  }

  /** How many of the shot's tracks are live, and where those are too few; or other tracks than the shot's. */
  counts(c, x, top, room, { values, floor } = this.ofShot()) {
    const { first } = this.store.state;
    const y = d3.scaleLinear([0, Math.max(20, d3.max(values) ?? 0) * 1.12], [top + room - 3, top + 5]);
    this.title(c, top, "Live", "tracks", y, room);
    if (!values.length) return this.empty(c, top, room, "after following");
    const width = Math.max(1, x(first + 1) - x(first) - 1);
    if (floor) {
      // Under this line no camera is to be had.
      c.fillStyle = INK.orchid;
      c.fillRect(LEFT, Math.round(y(CARRY)), x.range()[1] - LEFT, 1);
    }
    values.forEach((v, k) => {
      c.fillStyle = v < floor ? INK.orchid : "#93a1ab99";
      c.fillRect(x(first + k) - width / 2, y(v), width, y(0) - y(v));
    });
    return null;
  }

  /** Length of each frame's motion blur, with its direction as a stroke. */
  blur(c, x, top, room) {
    const { server, first } = this.store.state;
    const lengths = server?.blur?.length ?? [];
    const y = d3.scaleLinear([0, Math.max(10, d3.max(lengths) ?? 0) * 1.1], [top + room - 3, top + 6]);
    this.title(c, top, "Blur", "px", y, room);
    if (!lengths.length) return this.empty(c, top, room, "when the plate's proxies are made");
    const width = Math.max(1, x(first + 1) - x(first) - 1);
    const strokes = new Path2D();
    lengths.forEach((v, k) => {
      if (!v) return;
      c.fillStyle = "#f2a33a70";
      c.fillRect(x(first + k) - width / 2, y(v), width, y(0) - y(v));
      const [dx, dy] = [6 * Math.cos(server.blur.angle[k]), 6 * Math.sin(server.blur.angle[k])];
      const [mx, my] = [x(first + k), Math.max(y(v) - 8, top + 9)];
      strokes.moveTo(mx - dx, my - dy);
      strokes.lineTo(mx + dx, my + dy);
    });
    c.strokeStyle = INK.sail;
    c.lineWidth = 1.5;
    c.stroke(strokes);
    return null;
  }

  empty(c, top, room, text) {
    c.fillStyle = INK.muted;
    c.font = "12px Barlow";
    c.fillText(`Fills ${text}.`, LEFT + 10, top + room / 2 + 4);
  }

  curve(c, points, colour, width) {
    c.beginPath();
    for (const p of points) c.lineTo(...p);
    c.strokeStyle = colour;
    c.lineWidth = width;
    c.stroke();
  }

  marks(c, x, width, height) {
    const { frame, range } = this.store.state;
    if (range) {
      c.fillStyle = "#f2a33a1c";
      c.fillRect(x(range[0] - 0.5), 0, x(range[1] + 0.5) - x(range[0] - 0.5), height);
      c.fillStyle = INK.amber;
      for (const edge of [range[0] - 0.5, range[1] + 0.5]) c.fillRect(x(edge), 0, 1, height);
    }
    c.fillStyle = INK.amber;
    c.fillRect(Math.round(x(frame)) - 0.5, 0, 1.5, height);
    c.beginPath();
    c.moveTo(x(frame) - 6, 0);
    c.lineTo(x(frame) + 6, 0);
    c.lineTo(x(frame), 9);
    c.fill();
  }
}
