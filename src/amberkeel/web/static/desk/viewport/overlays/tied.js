// The ties stage over the plate: the set's points by the shot's camera, what ties, and a proposed spot.
import { INK } from "../../shell/colour.js";

export const tied = {
  shown: ({ stage, ties }) => stage === "ties" && Boolean(ties.known?.set),

  draw(context, { ties, frame, tracks, exaggeration }, { toScreen }) {
    const seen = ties.seen?.get(frame) ?? [];
    const size = seen.length > CROWDED ? 3 : 6;
    for (const [, x, y] of seen) drawPoint(context, ...toScreen(x, y), size);
    drawTies(context, { ties, frame, tracks, exaggeration }, seen, toScreen);
    const here = ties.where?.at[frame];
    if (here) drawWhere(context, here, ties.where.name, toScreen);
    if (ties.sought?.frame === frame) drawSought(context, ties.sought, toScreen);
    const one = ties.known.proposed.find((p) => p.name === ties.proposal);
    const at = one ? one.frames.indexOf(frame) : -1;
    if (at >= 0) drawBox(context, ...toScreen(one.x[at], one.y[at]), one.name);
  },
};

/** Points of the set on a frame from which they are drawn small. */
const CROWDED = 60;

/** Least half axis of the ellipse in which a spot must lie, screen pixels: smaller ones hide it. */
const LEAST_HALF = 9;

function drawWhere(c, [x, y, a, b, angle], name, toScreen) {
  const [sx, sy] = toScreen(x, y);
  const scale = toScreen(x + 1, y)[0] - sx;
  c.strokeStyle = INK.amber;
  c.lineWidth = 1.5;
  c.beginPath();
  c.ellipse(sx, sy, Math.max(a * scale, LEAST_HALF), Math.max(b * scale, LEAST_HALF), angle, 0, 2 * Math.PI);
  c.stroke();
  label(c, sx + LEAST_HALF + 6, sy, name, INK.amber);
}

/** The epipolar line of a spot that is sought, and where it was found on it. */
function drawSought(c, { line, at, placed, name }, toScreen) {
  c.strokeStyle = INK.amber;
  c.lineWidth = 1;
  c.setLineDash([6, 5]);
  c.beginPath();
  for (const [x, y] of line ?? []) c.lineTo(...toScreen(x, y));
  c.stroke();
  c.setLineDash([]);
  if (!at) return;
  const [x, y] = toScreen(...at);
  c.lineWidth = 2;
  c.beginPath();
  for (const [dx, dy] of [
    [-1, 0],
    [1, 0],
    [0, -1],
    [0, 1],
  ]) {
    c.moveTo(x + 4 * dx, y + 4 * dy);
    c.lineTo(x + 13 * dx, y + 13 * dy);
  }
  c.stroke();
  label(c, x + 16, y, placed ? `${name} · placed` : name, INK.amber);
}

function drawPoint(c, x, y, size) {
  c.strokeStyle = INK.verdigris;
  c.lineWidth = 1;
  c.beginPath();
  for (const [dx, dy] of [
    [0, -size],
    [size, 0],
    [0, size],
    [-size, 0],
  ])
    c.lineTo(x + dx, y + dy);
  c.closePath();
  c.stroke();
}

/** Tied tracks, each with a stick to where the set has its point: how far both shots disagree, lengthened as residuals
 * are, and in plate pixels. */
function drawTies(c, { ties, frame, tracks, exaggeration }, seen, toScreen) {
  if (!tracks) return;
  const names = new Map(ties.known.ties.map((one) => [one.track, one]));
  const places = new Map(seen.map(([name, x, y]) => [name, [x, y]]));
  for (const s of tracks.samples[frame - tracks.origin] ?? []) {
    const one = names.get(tracks.ids[tracks.track[s]]);
    if (!one) continue;
    const at = [tracks.x[s], tracks.y[s]];
    const [x, y] = toScreen(...at);
    const wrong = ties.known.aligned?.ties[one.point]?.wrong;
    c.strokeStyle = wrong ? INK.orchid : INK.verdigris;
    c.lineWidth = 2;
    c.setLineDash(one.on ? [] : [3, 3]);
    c.strokeRect(x - 7, y - 7, 14, 14);
    c.setLineDash([]);
    const set = places.get(one.point);
    const off = set && [set[0] - at[0], set[1] - at[1]];
    if (off) {
      c.beginPath();
      c.moveTo(x, y);
      c.lineTo(...toScreen(at[0] + exaggeration * off[0], at[1] + exaggeration * off[1]));
      c.stroke();
    }
    const figure = off ? ` · ${Math.hypot(...off).toFixed(2)} px` : "";
    label(c, x + 11, y, `${one.point}${figure}${wrong ? " · wrong" : ""}`, wrong ? INK.orchid : INK.sail);
  }
}

function drawBox(c, x, y, name) {
  c.strokeStyle = INK.amber;
  c.lineWidth = 2;
  c.strokeRect(x - 9, y - 9, 18, 18);
  label(c, x + 13, y, name, INK.amber);
}

function label(c, x, y, text, colour) {
  c.font = "500 12px Barlow";
  c.fillStyle = "#10161cc0";
  c.fillRect(x, y - 9, c.measureText(text).width + 8, 17);
  c.fillStyle = colour;
  c.fillText(text, x + 4, y + 4);
}
