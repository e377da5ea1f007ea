// Sightings: candidate features with their tails, chosen on the plate before they become tracks.
import { INK } from "../shell/colour.js";

const TAIL = 14;

/** Index sightings by frame: which samples lie on each. */
export function indexSightings(data, first, last) {
  const samples = Array.from({ length: last - first + 1 }, () => []);
  const row = new Int32Array(data.frames.length);
  for (let n = 0; n + 1 < data.first.length; n += 1)
    for (let s = data.first[n]; s < data.first[n + 1]; s += 1) {
      row[s] = n;
      samples[data.frames[s] - first]?.push(s);
    }
  return { ...data, samples, row, origin: first, count: data.first.length - 1 };
}

/** The sightings on a frame that live long enough: [row, x, y, sample]. */
export function onFrame(state) {
  const { sightings, frame, sightLength } = state;
  if (!sightings) return [];
  const out = [];
  for (const s of sightings.samples[frame - sightings.origin] ?? []) {
    const n = sightings.row[s];
    if (sightings.first[n + 1] - sightings.first[n] >= sightLength) out.push([n, sightings.x[s], sightings.y[s], s]);
  }
  return out;
}

export function drawSightings(c, state, toScreen) {
  const { sightings, taken } = state;
  const paths = [new Path2D(), new Path2D()];
  const marks = [new Path2D(), new Path2D()];
  for (const [n, x, y, s] of onFrame(state)) {
    const k = taken.has(n) ? 1 : 0;
    const from = Math.max(sightings.first[n], s - TAIL);
    paths[k].moveTo(...toScreen(sightings.x[from], sightings.y[from]));
    for (let j = from + 1; j <= s; j += 1) paths[k].lineTo(...toScreen(sightings.x[j], sightings.y[j]));
    const [px, py] = toScreen(x, y);
    marks[k].moveTo(px, py - 4);
    marks[k].lineTo(px + 4, py);
    marks[k].lineTo(px, py + 4);
    marks[k].lineTo(px - 4, py);
    marks[k].closePath();
  }
  for (const k of [0, 1]) {
    c.strokeStyle = k ? INK.amber : INK.sail;
    c.globalAlpha = k ? 0.9 : 0.4;
    c.lineWidth = 1;
    c.stroke(paths[k]);
    c.globalAlpha = k ? 1 : 0.8;
    c.lineWidth = 1.3;
    c.stroke(marks[k]);
    if (k) {
      c.fillStyle = "#f2a33a70";
      c.fill(marks[k]);
    }
  }
  c.globalAlpha = 1;
}
