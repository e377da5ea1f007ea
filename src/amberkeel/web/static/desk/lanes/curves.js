// Curves of the selected tracks in a lane: x, y, speed, acceleration, match, noise, residual; a box chooses samples.
import { INK } from "../shell/colour.js";

const MOST = 24;
const UNITS = {
  x: "px",
  y: "px",
  speed: "px / frame",
  acceleration: "px / frame²",
  score: "0 to 1",
  sigma: "px, one σ",
  residual: "px",
};

/** The curve of a track as [frame, value] pairs; null marks a gap. */
export function curveOf(tracks, attempt, t, kind) {
  const out = [];
  const own = attempt?.errors.get(tracks.ids[t]);
  for (let s = tracks.first[t]; s < tracks.first[t + 1]; s += 1) {
    const f = tracks.frames[s];
    const before = s > tracks.first[t] && tracks.frames[s - 1] === f - 1;
    if (out.length && !before) out.push(null);
    const value = valueAt(tracks, own, t, s, before, kind);
    if (value !== null) out.push([f, value]);
  }
  return out;
}

function valueAt(tracks, own, t, s, before, kind) {
  const f = tracks.frames[s];
  if (kind === "x" || kind === "y" || kind === "score" || kind === "sigma") return tracks[kind][s];
  if (kind === "residual") {
    const e = own?.get(f);
    return e ? Math.hypot(e[0], e[1]) : null;
  }
  if (!before) return null;
  const step = (k) => [tracks.x[k] - tracks.x[k - 1], tracks.y[k] - tracks.y[k - 1]];
  const now = step(s);
  if (kind === "speed") return Math.hypot(...now);
  if (s - 1 <= tracks.first[t] || tracks.frames[s - 2] !== f - 2) return null;
  const then = step(s - 1);
  return Math.hypot(now[0] - then[0], now[1] - then[1]);
}

export class Curves {
  constructor(store) {
    this.store = store;
    this.box = null;
    this.curves = [];
    this.scale = null;
  }

  get kind() {
    return document.querySelector("#curve").value;
  }

  /** The curves to draw: positions are shown from each track's own mean, so that several fit. */
  collect() {
    const { tracks, attempt, selection } = this.store.state;
    const ids = [...selection].filter((id) => tracks?.row.has(id)).slice(0, MOST);
    this.curves = ids.map((id) => {
      const points = curveOf(tracks, attempt, tracks.row.get(id), this.kind);
      const values = points.filter(Boolean).map((p) => p[1]);
      const base = (this.kind === "x" || this.kind === "y") && ids.length > 1 ? (d3.mean(values) ?? 0) : 0;
      return { id, points: points.map((p) => p && [p[0], p[1] - base]) };
    });
  }

  draw(lanes, c, x, top, room) {
    this.collect();
    const all = this.curves.flatMap((k) => k.points.filter(Boolean).map((p) => p[1]));
    const low = ["x", "y"].includes(this.kind) ? (d3.min(all) ?? 0) : 0;
    const high = Math.max(d3.max(all) ?? 1, low + 0.1);
    const y = d3.scaleLinear(all.length ? [low, high] : [0, 0], [top + room - 6, top + 7]);
    Object.assign(this, { scale: y, top, room });
    lanes.title(c, top, "Curve", "", y, room, true);
    c.fillStyle = INK.muted;
    c.font = "11px Barlow";
    c.fillText(UNITS[this.kind], 10, top + 58);
    if (!this.curves.length) return lanes.empty(c, top, room, "when a track is selected");
    if (!all.length)
      return lanes.empty(c, top, room, this.kind === "residual" ? "after a solve" : "when the track has more samples");
    const { samples, tracks } = this.store.state;
    for (const { id, points } of this.curves) {
      c.strokeStyle = this.curves.length > 1 ? "#f2a33aa0" : INK.amber;
      c.lineWidth = 1.4;
      c.beginPath();
      let pen = false;
      for (const p of points) {
        if (!p) {
          pen = false;
          continue;
        }
        if (pen) c.lineTo(x(p[0]), y(p[1]));
        else c.moveTo(x(p[0]), y(p[1]));
        pen = true;
      }
      c.stroke();
      const chosen = samples.get(id);
      const keys = new Set(tracks.keys[tracks.row.get(id)]);
      for (const p of points) {
        if (!p) continue;
        const picked = chosen?.has(p[0]);
        c.fillStyle = picked ? INK.orchid : INK.amber;
        if (picked || this.curves.length === 1)
          c.fillRect(x(p[0]) - (picked ? 3 : 1.5), y(p[1]) - (picked ? 3 : 1.5), picked ? 6 : 3, picked ? 6 : 3);
        if (keys.has(p[0])) {
          c.strokeStyle = INK.sail;
          c.strokeRect(x(p[0]) - 4, y(p[1]) - 4, 8, 8);
        }
      }
    }
    return null;
  }

  drawBox(c) {
    if (!this.box?.moved) return;
    const {
      from: [ax, ay],
      to: [bx, by],
    } = this.box;
    c.fillStyle = "#d5559a26";
    c.strokeStyle = INK.orchid;
    c.lineWidth = 1;
    c.fillRect(ax, ay, bx - ax, by - ay);
    c.strokeRect(ax, ay, bx - ax, by - ay);
  }

  /** Whether a press at this height begins a box. */
  begins(at) {
    if (this.store.state.stage !== "tracks" || !this.curves.length || at[1] < this.top || at[1] > this.top + this.room)
      return false;
    this.box = { from: at, to: at, moved: false };
    return true;
  }

  pull(at) {
    this.box.to = at;
    this.box.moved ||= Math.hypot(at[0] - this.box.from[0], at[1] - this.box.from[1]) > 4;
  }

  /** End the box: choose the samples in it; tells whether it was one and not a click. */
  end(x, add) {
    const { box } = this;
    this.box = null;
    if (!box.moved) return false;
    const [l, r] = d3.extent([box.from[0], box.to[0]]);
    const [t, b] = d3.extent([box.from[1], box.to[1]]);
    const samples = new Map(add ? this.store.state.samples : []);
    for (const { id, points } of this.curves) {
      const inside = points
        .filter((p) => p && x(p[0]) >= l && x(p[0]) <= r && this.scale(p[1]) >= t && this.scale(p[1]) <= b)
        .map((p) => p[0]);
      if (inside.length) samples.set(id, new Set([...(samples.get(id) ?? []), ...inside]));
    }
    this.store.set({ samples });
    return true;
  }
}
