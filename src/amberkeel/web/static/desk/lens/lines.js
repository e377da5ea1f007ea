// Drawing lines over the plate: from end to end, by dragging or by two clicks; points moved one by one with a loupe.

import { INK } from "../shell/colour.js";
import { cross } from "../viewport/cross.js";
import { drawBoxes, withCorners } from "./boxes.js";

const GRIP_PX = 9;
const LOUPE = 150;
const ZOOM = 6;
const JOIN_PX = 10;

/** Each direction has a letter, a dash and a tint. */
export const LOOKS = {
  "": { tint: INK.sail, dash: [], letter: "" },
  x: { tint: "#7fb7d9", dash: [], letter: "X" },
  y: { tint: "#b9a3e3", dash: [7, 3], letter: "Y" },
  z: { tint: "#8fce9b", dash: [2, 3], letter: "Z" },
};

export class LineDraw {
  constructor(viewport, store, send) {
    this.viewport = viewport;
    this.store = store;
    this.send = send;
    this.grip = null;
    this.over = null;
    // The first of two clicks in plate pixels, and where the pointer is since.
    this.first = null;
    this.last = null;
  }

  get dragging() {
    return Boolean(["point", "origin"].includes(this.grip?.kind) && this.grip.moved);
  }

  /** Where the stated origin lies on this frame, or null. */
  originAt() {
    const { lens, frame } = this.store.state;
    const { origin } = lens;
    if (!origin) return null;
    const line = origin.line && lens.lines[origin.line];
    if (origin.line) return line?.frame === frame ? line.points[origin.end ? line.points.length - 1 : 0] : null;
    return origin.frame === frame ? origin.point : null;
  }

  /** The origin under a point on the screen: the end of an axis line nearby, or the plate's pixel there. */
  originUnder(at) {
    for (const [name, line] of this.here()) {
      if (!line.axis) continue;
      for (const end of [0, 1]) {
        const [x, y] = this.viewport.toScreen(...line.points[end ? line.points.length - 1 : 0]);
        if (Math.hypot(x - at[0], y - at[1]) < JOIN_PX) return { line: name, end };
      }
    }
    return { frame: this.store.state.frame, point: this.viewport.toPlate(...at) };
  }

  /** Names and lines of this frame. */
  here() {
    const { lens, frame } = this.store.state;
    return Object.entries(lens.lines).filter(([, line]) => line.frame === frame);
  }

  hit(at) {
    const origin = this.originAt();
    if (
      origin &&
      !this.store.state.lens.origin.line &&
      Math.hypot(...this.viewport.toScreen(...origin).map((v, k) => v - at[k])) < GRIP_PX
    )
      return { kind: "origin", name: "origin" };
    for (const [name, line] of this.here()) {
      for (let k = 0; k < line.points.length; k += 1) {
        const [x, y] = this.viewport.toScreen(...line.points[k]);
        if (Math.hypot(x - at[0], y - at[1]) < GRIP_PX) return { kind: "point", name, k };
      }
    }
    for (const [name, line] of this.here()) {
      for (let k = 1; k < line.points.length; k += 1) {
        if (
          !line.box &&
          between(at, this.viewport.toScreen(...line.points[k - 1]), this.viewport.toScreen(...line.points[k])) < 6
        )
          return { kind: "line", name, k };
      }
    }
    return null;
  }

  down(event, at) {
    const { state } = this.store;
    if (state.stage !== "lens" || state.lens.look === "straight") return false;
    const p = this.viewport.toPlate(...at);
    if (state.lens.tool === "origin") {
      this.send.origin(this.originUnder(at), true);
      return true;
    }
    if (this.first) {
      const { first } = this;
      this.first = null;
      this.made(first, p);
      return true;
    }
    const found = this.hit(at);
    if (found) {
      this.store.set({ lens: { ...state.lens, chosen: found.name } });
      if (found.kind === "line" && event.detail === 2) {
        const line = state.lens.lines[found.name];
        const points = [...line.points.slice(0, found.k), p, ...line.points.slice(found.k)];
        this.send.keep({ [found.name]: { ...line, points } }, `Add a point to ${found.name}`);
        return true;
      }
      this.grip = { ...found, moved: false, from: at, line: state.lens.lines[found.name] };
      return true;
    }
    if (!state.lens.tool) {
      if (state.lens.chosen) this.store.set({ lens: { ...state.lens, chosen: null } });
      return false;
    }
    this.grip = { kind: "new", from: at, to: at, moved: false };
    return true;
  }

  move(event, at) {
    const { grip } = this;
    if (!grip && this.first) {
      this.last = at;
      this.viewport.redraw();
      return null;
    }
    if (!grip) return this.hover(at);
    if (Math.hypot(at[0] - grip.from[0], at[1] - grip.from[1]) > 3) grip.moved = true;
    if (grip.kind === "new") grip.to = at;
    if (grip.kind === "point" && grip.moved) {
      const p = this.viewport.toPlate(...at);
      const { lines } = this.store.state.lens;
      const points = grip.line.points.map((q, k) => (k === grip.k ? p : q));
      this.send.drag(
        grip.line.box
          ? withCorners(lines, grip.line.box, { [grip.line.ends[grip.k]]: p }, true)
          : { [grip.name]: { ...grip.line, points } },
      );
    }
    if (grip.kind === "origin" && grip.moved) this.send.origin(this.originUnder(at), false);
    this.viewport.redraw();
    return null;
  }

  hover(at) {
    const { state } = this.store;
    if (state.stage !== "lens") return null;
    const found = this.hit(at);
    const name = found?.name ?? null;
    if (name !== this.over) {
      this.over = name;
      this.viewport.redraw();
    }
    this.viewport.canvas.style.cursor = found?.kind === "point" ? "grab" : state.lens.tool ? "crosshair" : "";
    return null;
  }

  up() {
    const { grip } = this;
    this.grip = null;
    if (!grip) return;
    if (grip.kind === "new" && grip.moved)
      this.made(this.viewport.toPlate(...grip.from), this.viewport.toPlate(...grip.to));
    if (grip.kind === "new" && !grip.moved) [this.first, this.last] = [this.viewport.toPlate(...grip.from), grip.from];
    if (grip.kind === "origin" && grip.moved) this.send.origin(this.store.state.lens.origin, true);
    if (grip.kind === "point" && grip.moved) this.send.settle(grip.name, grip.k);
    this.viewport.redraw();
  }

  /** Both ends of something new are there. */
  made(from, to) {
    this.send[this.store.state.lens.tool === "box" ? "box" : "draw"](from, to);
  }

  cancel() {
    const { state } = this.store;
    if (state.stage !== "lens") return false;
    const was = Boolean(this.grip || this.first || state.lens.tool || state.lens.chosen);
    this.grip = null;
    this.first = null;
    if (was) this.store.set({ lens: { ...state.lens, tool: null, chosen: null } });
    return was;
  }

  draw(c, state, toScreen) {
    if (state.stage !== "lens") return;
    const { fit, look } = state.lens;
    const [x0, y0] = toScreen(0, 0);
    const [x1, y1] = toScreen(state.width, state.height);
    c.save();
    c.beginPath();
    c.rect(x0, y0, x1 - x0, y1 - y0);
    c.clip();
    if (state.lens.grid && fit)
      strokes(c, look === "straight" ? straightGrid(state) : fit.grid, toScreen, "#ebe5d866", 1);
    if (state.lens.floor && fit)
      this.drawFloor(
        c,
        look === "straight" ? { floor: fit.straight_floor, horizon: fit.straight_horizon } : fit,
        toScreen,
      );
    c.restore();
    if (state.lens.shown || this.grip) this.drawLines(c, state, toScreen, [x0, y0, x1 - x0, y1 - y0]);
    if (look !== "straight") this.drawOrigin(c, toScreen);
    const { grip } = this;
    const ends =
      grip?.kind === "new" && grip.moved ? [grip.from, grip.to] : this.first && [toScreen(...this.first), this.last];
    if (ends) {
      const [[ax, ay], [bx, by]] = ends;
      c.setLineDash([5, 4]);
      c.strokeStyle = INK.amber;
      c.lineWidth = 1.5;
      if (state.lens.tool === "box") c.strokeRect(ax, ay, bx - ax, by - ay);
      else path(c, ends);
      c.setLineDash([]);
    }
    if (this.dragging) this.drawLoupe(c, state, toScreen);
  }

  /** Boxes and lines; on the straightened picture they end where it does. */
  drawLines(c, state, toScreen, picture) {
    const straight = state.lens.look === "straight";
    c.save();
    if (straight) {
      c.beginPath();
      c.rect(...picture);
      c.clip();
    } else drawBoxes(c, state.lens.lines, state.frame, state.lens.chosen, toScreen);
    for (const [name, line] of this.here())
      if (!line.set || line.set.every(Boolean)) this.drawLine(c, state, name, line, toScreen);
    c.restore();
  }

  drawFloor(c, fit, toScreen) {
    strokes(c, fit.floor ?? [], toScreen, "#4fb3a580", 1);
    if (fit.horizon?.length) {
      strokes(c, [fit.horizon], toScreen, INK.verdigris, 1.5, [10, 4]);
      const seen = fit.horizon.find(([x]) => x > 0.02 * this.store.state.width);
      if (seen) tag(c, "horizon", toScreen(0, 0)[0] + 6, toScreen(...seen)[1] - 7, INK.verdigris);
    }
  }

  drawLine(c, state, name, line, toScreen) {
    const { lens } = state;
    const looks = LOOKS[line.axis ?? ""];
    const report = lens.fit?.lines[name];
    const chosen = lens.chosen === name || Boolean(line.box && lens.lines[lens.chosen]?.box === line.box);
    const straight = lens.look === "straight";
    const points = (straight ? (lens.fit?.straight?.[name] ?? []) : line.points).map((p) => toScreen(...p));
    if (!points.length) return;
    const tint = chosen ? INK.amber : report?.disagrees ? INK.orchid : looks.tint;
    for (const [stroke, width] of [
      ["#0009", 4],
      [tint, chosen || this.over === name ? 2.5 : 1.75],
    ]) {
      c.strokeStyle = stroke;
      c.lineWidth = width;
      c.setLineDash(width === 4 ? [] : looks.dash);
      path(
        c,
        straight ||
          !lens.fit?.bent?.[name] ||
          (this.grip?.name === name && this.grip.moved) ||
          (line.box && this.grip?.line?.box === line.box)
          ? points
          : lens.fit.bent[name].map((p) => toScreen(...p)),
      );
    }
    c.setLineDash([]);
    if (!straight)
      for (const [x, y] of points) {
        c.fillStyle = "#10161c";
        c.fillRect(x - 3.5, y - 3.5, 7, 7);
        c.fillStyle = tint;
        c.fillRect(x - 2.5, y - 2.5, 5, 5);
      }
    const [mx, my] = points[Math.floor(points.length / 2)];
    const words = [
      looks.letter,
      report?.disagrees ? "disagrees" : "",
      chosen && report ? `${report.after.toFixed(2)} px` : "",
    ]
      .filter(Boolean)
      .join(" ");
    if (words && !(line.box && !report?.disagrees && lens.chosen !== name))
      tag(c, words, mx + 8, my - 8, tint, toScreen(state.width, 0)[0]);
  }

  /** The world's origin: a ring and four strokes. */
  drawOrigin(c, toScreen) {
    const at = this.originAt();
    if (!at) return;
    const [x, y] = toScreen(...at);
    for (const [stroke, width] of [
      ["#000b", 5],
      [INK.amber, 2],
    ]) {
      c.strokeStyle = stroke;
      c.lineWidth = width;
      c.beginPath();
      c.arc(x, y, 8, 0, 2 * Math.PI);
      for (const [dx, dy] of [
        [13, 0],
        [-13, 0],
        [0, 13],
        [0, -13],
      ]) {
        c.moveTo(x + dx * 0.4, y + dy * 0.4);
        c.lineTo(x + dx, y + dy);
      }
      c.stroke();
    }
    const cell = this.store.state.lens.fit?.place?.cell_m;
    const low = y + 30 > toScreen(0, this.store.state.height)[1];
    tag(c, cell ? `origin, cells of ${cell} m` : "origin", x + 14, low ? y - 12 : y + 18, INK.amber);
  }

  /** The plate under the point that is dragged, magnified in the corner away from it. */
  drawLoupe(c, state, toScreen) {
    const { grip, viewport } = this;
    const picture = viewport.lastPicture;
    const p = grip.kind === "origin" ? this.originAt() : state.lens.lines[grip.name]?.points[grip.k];
    if (!picture?.width || !p) return;
    const [kx, ky] = [picture.width / state.width, picture.height / state.height];
    const span = LOUPE / ZOOM;
    const [px] = toScreen(...p);
    const left = px < viewport.width / 2 ? viewport.width - LOUPE - 14 : 14;
    c.save();
    c.fillStyle = "#0b1014";
    c.fillRect(left, 14, LOUPE, LOUPE);
    c.imageSmoothingEnabled = false;
    // The proxy has square pixels: as many of them each way.
    c.drawImage(
      picture,
      p[0] * kx - (span * ky) / 2,
      p[1] * ky - (span * ky) / 2,
      span * ky,
      span * ky,
      left,
      14,
      LOUPE,
      LOUPE,
    );
    c.strokeStyle = INK.amber;
    c.lineWidth = 1;
    c.strokeRect(left + 0.5, 14.5, LOUPE - 1, LOUPE - 1);
    cross(c, [left + LOUPE / 2, 14 + LOUPE / 2], 4, 18);
    c.restore();
  }
}

function straightGrid({ width, height }) {
  const lines = [];
  for (let k = -6; k <= 6; k += 1)
    lines.push([
      [width / 2 + (k * width) / 12, 0],
      [width / 2 + (k * width) / 12, height],
    ]);
  for (let k = -4; k <= 4; k += 1)
    lines.push([
      [0, height / 2 + (k * height) / 8],
      [width, height / 2 + (k * height) / 8],
    ]);
  return lines;
}

function strokes(c, lines, toScreen, tint, width, dash = []) {
  c.strokeStyle = tint;
  c.lineWidth = width;
  c.setLineDash(dash);
  c.beginPath();
  for (const line of lines) line.forEach((p, k) => (k ? c.lineTo(...toScreen(...p)) : c.moveTo(...toScreen(...p))));
  c.stroke();
  c.setLineDash([]);
}

function path(c, points) {
  c.beginPath();
  points.forEach((p, k) => (k ? c.lineTo(...p) : c.moveTo(...p)));
  c.stroke();
}

function tag(c, text, x, y, tint, right = c.canvas.clientWidth) {
  c.font = "600 12px Barlow";
  c.lineWidth = 3;
  x = Math.min(x, right - c.measureText(text).width - 5);
  c.strokeStyle = "#10161ccc";
  c.strokeText(text, x, y);
  c.fillStyle = tint;
  c.fillText(text, x, y);
}

function between([x, y], [ax, ay], [bx, by]) {
  const [dx, dy] = [bx - ax, by - ay];
  const t = Math.min(Math.max(((x - ax) * dx + (y - ay) * dy) / Math.max(dx * dx + dy * dy, 1e-9), 0), 1);
  return Math.hypot(x - ax - t * dx, y - ay - t * dy);
}
