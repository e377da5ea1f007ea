// The residual lane: all tracks as a band, RMS and median on it, the worst as points; two attempts overlaid; and a
// strip that says for every frame how well it is held.
import { INK } from "../shell/colour.js";

/** Figures by frame of an attempt's measurements that counted: px, and how well each frame is held, 0 to 1. */
const kept = new WeakMap();

const CELLS = [4, 3];
const ENOUGH = 25;

/** Lengths that count on each frame, sorted, as `low`, `median`, `high` and `worst` by frame. */
export function figuresOf(attempt) {
  if (kept.has(attempt)) return kept.get(attempt);
  const lengths = attempt.frame_rms.map(() => []);
  for (let n = 0; n < attempt.track.length; n += 1) {
    if (!attempt.aside[n]) lengths[attempt.frame[n] - attempt.first]?.push(Math.hypot(attempt.dx[n], attempt.dy[n]));
  }
  const rows = lengths.map(spreadOf);
  kept.set(attempt, rows);
  return rows;
}

/** How the residuals of a frame, pixels, are spread. */
export function spreadOf(lengths) {
  const own = [...lengths].sort((a, b) => a - b);
  const at = (q) => d3.quantileSorted(own, q) ?? null;
  return { low: at(0.1), median: at(0.5), high: at(0.9), worst: own.at(-1) ?? null, count: own.length };
}

/** How well each frame is held: by its residual against the usual one, by how many tracks, and by how they spread. */
export function heldOf(attempt, tracks, width, height) {
  const rows = figuresOf(attempt);
  const usual = d3.median(rows, (r) => r.median) || 1;
  return rows.map((r, k) => {
    if (!r.count) return 0;
    const cells = new Set();
    for (const s of tracks?.samples[k] ?? [])
      cells.add(Math.floor((tracks.x[s] / width) * CELLS[0]) * 8 + Math.floor((tracks.y[s] / height) * CELLS[1]));
    const spread = Math.min(1, cells.size / (0.6 * CELLS[0] * CELLS[1]));
    return Math.min(1, (1.5 * usual) / r.median, 1) * Math.min(1, r.count / ENOUGH) * spread;
  });
}

/** Draw the lane into `lanes`, between `top` and `top + room`. */
export function drawResiduals(lanes, c, x, top, room) {
  const { attempt, selection, first, overlay, tracks, width, height } = lanes.store.state;
  const values = attempt?.frame_rms ?? [];
  const rows = attempt ? figuresOf(attempt) : [];
  const chosen = [...selection]
    .slice(0, 8)
    .map((id) => attempt?.errors.get(id))
    .filter(Boolean);
  const peaks = chosen.flatMap((own) => [...own.values()].map(([dx, dy]) => Math.hypot(dx, dy)));
  const top_ = Math.max(
    0.2,
    d3.max(values) ?? 0,
    d3.max(rows, (r) => r.high) ?? 0,
    Math.min(d3.max(peaks) ?? 0, 3),
    d3.max(overlay?.after_rms ?? []) ?? 0,
    d3.max(overlay?.before_rms ?? []) ?? 0,
  );
  const strip = attempt ? 9 : 0;
  const y = d3.scaleLinear([0, top_ * 1.08], [top + room - 3, top + 5 + strip]).clamp(true);
  lanes.title(c, top, "Residual", overlay ? "px, both" : "px RMS", y, room);
  if (!values.length) return lanes.empty(c, top, room, "after a solve");
  held(c, x, top, heldOf(attempt, tracks, width, height), first);
  if (overlay) return both(lanes, c, x, y, overlay);
  drawSpread(lanes, c, x, y, { rows, values, first });
  for (const own of chosen) {
    const points = [...own].sort((a, b) => a[0] - b[0]).map(([f, [dx, dy]]) => [x(f), y(Math.hypot(dx, dy))]);
    lanes.curve(c, points, INK.amber, 1.4);
  }
  return null;
}

/** Residuals by frame from a first one: the band that most lie in, their median, their RMS, and the worst. */
export function drawSpread(lanes, c, x, y, { rows, values, first }) {
  const line = (of, colour, thick) =>
    lanes.curve(
      c,
      of.map((v, k) => [x(first + k), y(v ?? 0)]),
      colour,
      thick,
    );
  band(c, x, y, rows, first);
  line(
    rows.map((r) => r.median),
    "#ebe5d899",
    1,
  );
  line(values, INK.verdigris, 1.8);
  worst(c, x, y, rows, first);
}

/** The strip: taller and brighter where a frame is held worse. */
function held(c, x, top, values, first) {
  const step = Math.max(1, x(first + 1) - x(first) - 0.5);
  values.forEach((v, k) => {
    const weak = 1 - v;
    c.fillStyle = weak < 0.25 ? "#4fb3a580" : weak < 0.55 ? INK.amber : INK.orchid;
    const tall = 2 + 6 * weak;
    c.fillRect(x(first + k) - step / 2, top + 9 - tall, step, tall);
  });
}

function band(c, x, y, rows, first) {
  c.beginPath();
  rows.forEach((r, k) => c.lineTo(x(first + k), y(r.high ?? 0)));
  for (let k = rows.length - 1; k >= 0; k -= 1) c.lineTo(x(first + k), y(rows[k].low ?? 0));
  c.closePath();
  c.fillStyle = "#4fb3a52e";
  c.fill();
}

function worst(c, x, y, rows, first) {
  c.fillStyle = "#d5559acc";
  rows.forEach((r, k) => {
    if (r.worst !== null) c.fillRect(x(first + k) - 1, y(r.worst) - 1, 2, 2);
  });
}

/** Both attempts of a trial, before dashed and after whole. */
function both(lanes, c, x, y, overlay) {
  const line = (values) => overlay.frames.map((f, k) => [x(f), y(values[k] ?? 0)]);
  c.setLineDash([5, 4]);
  lanes.curve(c, line(overlay.before_rms), INK.muted, 1.6);
  c.setLineDash([]);
  lanes.curve(c, line(overlay.after_rms), INK.amber, 1.8);
  c.font = "11px 'JetBrains Mono'";
  c.fillStyle = INK.muted;
  c.fillText("- - before", x.range()[1] - 170, y.range()[1] + 8);
  c.fillStyle = INK.amber;
  c.fillText("— after", x.range()[1] - 80, y.range()[1] + 8);
  return null;
}
