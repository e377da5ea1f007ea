// The plate with its overlays: zoom and pan, and picking by click, box and lasso.
import { drawMasks } from "../masks/draw.js";
import { INK } from "../shell/colour.js";
import { modeOf, OVERLAYS } from "./overlays/index.js";
import { within } from "./within.js";

const PICK_PX = 12;

export class Viewport {
  constructor(canvas, store, frames) {
    this.canvas = canvas;
    this.store = store;
    this.frames = frames;
    this.zoom = 1;
    this.pan = [0, 0];
    this.drag = null;
    this.guests = [];
    this.picks = () => null;
    this.still = null;
    this.pending = false;
    this.resize();
    new ResizeObserver(() => this.resize()).observe(canvas);
    canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
    canvas.addEventListener("pointerdown", (e) => this.down(e));
    canvas.addEventListener("pointermove", (e) => this.move(e));
    canvas.addEventListener("pointerup", (e) => this.up(e));
    canvas.addEventListener("contextmenu", (e) => e.preventDefault());
  }

  resize() {
    const ratio = devicePixelRatio || 1;
    this.width = this.canvas.clientWidth;
    this.height = this.canvas.clientHeight;
    this.canvas.width = Math.round(this.width * ratio);
    this.canvas.height = Math.round(this.height * ratio);
    this.ratio = ratio;
    this.redraw();
  }

  /** Screen pixels a plate pixel, at the present zoom. */
  get scale() {
    const { width, height, aspect } = this.store.state;
    return Math.min(this.width / (width * aspect), this.height / height) * 0.985 * this.zoom;
  }

  toScreen = (x, y) => {
    const { width, height, aspect } = this.store.state;
    const k = this.scale;
    return [
      this.width / 2 + this.pan[0] + (x - width / 2) * k * aspect,
      this.height / 2 + this.pan[1] + (y - height / 2) * k,
    ];
  };

  /** The plate pixel under a point on the screen. */
  toPlate = (px, py) => {
    const { width, height, aspect } = this.store.state;
    const k = this.scale;
    return [
      (px - this.width / 2 - this.pan[0]) / (k * aspect) + width / 2,
      (py - this.height / 2 - this.pan[1]) / k + height / 2,
    ];
  };

  /** Put a plate pixel into the middle of the view. */
  centre(x, y) {
    const { width, height, aspect } = this.store.state;
    this.pan = [-(x - width / 2) * this.scale * aspect, -(y - height / 2) * this.scale];
    this.redraw();
  }

  fit() {
    this.zoom = 1;
    this.pan = [0, 0];
    this.redraw();
  }

  wheel(event) {
    event.preventDefault();
    const factor = Math.exp(-event.deltaY * 0.0016);
    const next = Math.min(Math.max(this.zoom * factor, 0.4), 40);
    const [x, y] = [event.offsetX - this.width / 2, event.offsetY - this.height / 2];
    const share = next / this.zoom;
    this.pan = [x - (x - this.pan[0]) * share, y - (y - this.pan[1]) * share];
    this.zoom = next;
    this.redraw();
  }

  down(event) {
    this.canvas.setPointerCapture(event.pointerId);
    this.canvas.focus();
    const at = [event.offsetX, event.offsetY];
    const divider = event.button === 0 && this.onDivider(at);
    const guest = event.button === 0 && !divider && this.guests.find((g) => g.down(event, at));
    const kind = divider ? "divider" : guest ? "guest" : event.button !== 0 ? "pan" : this.store.state.tool;
    this.drag = {
      kind,
      guest,
      from: at,
      last: at,
      path: [at],
      add: event.shiftKey,
      toggle: event.ctrlKey || event.metaKey,
    };
  }

  move(event) {
    const at = [event.offsetX, event.offsetY];
    if (!this.drag) return this.guests.forEach((g) => g.move(event, at));
    if (this.drag.kind === "guest") return this.drag.guest.move(event, at);
    if (this.drag.kind === "divider") {
      this.store.state.split = Math.min(Math.max(at[0] / this.width, 0.02), 0.98);
      return this.redraw();
    }
    if (this.drag.kind === "pan")
      this.pan = [this.pan[0] + at[0] - this.drag.last[0], this.pan[1] + at[1] - this.drag.last[1]];
    this.drag.last = at;
    this.drag.path.push(at);
    return this.redraw();
  }

  up() {
    const drag = this.drag;
    this.drag = null;
    if (drag?.kind === "guest") drag.guest.up();
    if (!drag || ["pan", "guest", "divider"].includes(drag.kind)) return;
    const small = drag.path.every(([x, y]) => Math.hypot(x - drag.from[0], y - drag.from[1]) < 4);
    const found = small
      ? this.nearest(drag.from)
      : drag.kind === "lasso"
        ? this.inside(drag.path)
        : this.inside(corners(drag));
    const picks = this.picks();
    const next = new Set(drag.add || drag.toggle || picks ? (picks?.chosen ?? this.store.state.selection) : []);
    for (const id of found)
      if ((drag.toggle || (picks && small)) && next.has(id)) next.delete(id);
      else next.add(id);
    if (picks) picks.set(next);
    else this.store.set({ selection: next });
    this.redraw();
  }

  /** Whether a point lies on the line between the plate and its copy. */
  onDivider([x]) {
    const { copy, split } = this.store.state;
    return Boolean(copy) && Math.abs(x - split * this.width) < 7;
  }

  /** Ids and screen positions of what can be picked on this frame: tracks, or what `picks` offers. */
  onFrame() {
    const picks = this.picks();
    if (picks) return picks.items;
    const { tracks, frame } = this.store.state;
    if (!tracks) return [];
    return Array.from(tracks.samples[frame - tracks.origin] ?? [], (s) => [
      tracks.ids[tracks.track[s]],
      ...this.toScreen(tracks.x[s], tracks.y[s]),
    ]);
  }

  /** The nearest thing under the pointer that `fits`, as a list of none or one. */
  nearest([x, y], fits = () => true) {
    let best = PICK_PX;
    let found = [];
    for (const [id, px, py] of this.onFrame()) {
      const d = Math.hypot(px - x, py - y);
      if (d < best && fits(id)) [best, found] = [d, [id]];
    }
    return found;
  }

  inside(path) {
    return this.onFrame()
      .filter(([, x, y]) => within(path, x, y))
      .map(([id]) => id);
  }

  redraw() {
    if (this.pending) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.draw();
    });
  }

  draw() {
    if (!this.width || !this.height) return null;
    this.over?.draw(this);
    const guest = this.guests.find((g) => g.dragging);
    if (guest) return this.drawDrag(guest);
    this.still = null;
    return this.drawAll("all");
  }

  /** While a guest drags something, all else is drawn once and kept. */
  drawDrag(guest) {
    const c = this.canvas.getContext("2d", { willReadFrequently: true });
    if (!this.still) {
      this.drawAll("others");
      this.still = document.createElement("canvas");
      [this.still.width, this.still.height] = [this.canvas.width, this.canvas.height];
      this.still.getContext("2d", { willReadFrequently: true }).drawImage(this.canvas, 0, 0);
    }
    c.setTransform(1, 0, 0, 1, 0, 0);
    c.drawImage(this.still, 0, 0);
    c.setTransform(this.ratio, 0, 0, this.ratio, 0, 0);
    if (guest === this.guests[0])
      drawMasks(c, this.store.state, guest, this.toScreen, this.scale, () => this.redraw(), "chosen");
    else guest.draw(c, this.store.state, this.toScreen);
  }

  /** The tracking copy right of the line. */
  drawCopy(c, state, [x, y, w, h]) {
    const at = state.split * this.width;
    c.save();
    c.beginPath();
    c.rect(at, 0, this.width - at, this.height);
    c.clip();
    c.drawImage(state.copy.picture, x, y, w, h);
    c.restore();
    c.fillStyle = INK.amber;
    c.fillRect(at - 0.75, 0, 1.5, this.height);
    c.font = "500 12px Barlow";
    for (const [text, left, align] of [
      ["as shot", at - 10, "right"],
      ["copy", at + 10, "left"],
    ]) {
      c.textAlign = align;
      c.fillText(text, left, this.height - 12);
    }
    c.textAlign = "left";
  }

  drawAll(which) {
    const state = this.store.state;
    // Drawn by the processor: hundreds of short strokes are slower on many graphics drivers than in memory.
    const c = this.canvas.getContext("2d", { willReadFrequently: true });
    c.setTransform(this.ratio, 0, 0, this.ratio, 0, 0);
    c.fillStyle = "#0b1014";
    c.fillRect(0, 0, this.width, this.height);
    const picture = this.frames.want(state.frame) ?? this.lastPicture;
    const [x0, y0] = this.toScreen(0, 0);
    const [x1, y1] = this.toScreen(state.width, state.height);
    c.imageSmoothingEnabled = this.scale < 3;
    if (state.straight?.frame === state.frame) c.drawImage(state.straight.picture, x0, y0, x1 - x0, y1 - y0);
    else if (picture && picture.width) {
      c.drawImage(picture, x0, y0, x1 - x0, y1 - y0);
      this.lastPicture = picture;
    }
    if (state.copy?.frame === state.frame) this.drawCopy(c, state, [x0, y0, x1 - x0, y1 - y0]);
    c.strokeStyle = INK.line;
    c.strokeRect(x0 - 0.5, y0 - 0.5, x1 - x0 + 1, y1 - y0 + 1);
    if (state.held) return;
    if (state.stage === "lens") {
      for (const guest of this.guests.slice(1))
        if (which === "all" || !guest.dragging) guest.draw(c, state, this.toScreen);
      return;
    }
    const [masks, ...guests] = this.guests;
    const { toScreen, scale, width, height } = this;
    const view = {
      toScreen,
      scale,
      width,
      height,
      masks,
      guests,
      which,
      redraw: () => this.redraw(),
      ...modeOf(state),
    };
    for (const overlay of OVERLAYS) if (overlay.shown(state, view)) overlay.draw(c, state, view);
    if (["pick", "box", "lasso"].includes(this.drag?.kind)) {
      outline(c, this.drag.kind === "lasso" ? this.drag.path : corners(this.drag));
    }
  }
}

function corners({ from: [ax, ay], last: [bx, by] }) {
  return [
    [ax, ay],
    [bx, ay],
    [bx, by],
    [ax, by],
  ];
}

function outline(c, path) {
  c.strokeStyle = INK.amber;
  c.fillStyle = "#f2a33a1f";
  c.lineWidth = 1.5;
  c.setLineDash([5, 4]);
  c.beginPath();
  for (const p of path) c.lineTo(...p);
  c.closePath();
  c.fill();
  c.stroke();
  c.setLineDash([]);
}
