// Coverage: how many live tracks lie in each part of the picture, and how near, once solved.
import { INK } from "../shell/colour.js";
import { standing } from "./index.js";

const COLUMNS = 8;
const ROWS = 5;

/** Depth of every solved track on a frame, by id. */
function depths(attempt, frame) {
  const world = attempt?.world;
  const camera = world?.frames.find((f) => f.frame === frame);
  if (!camera) return new Map();
  const forward = camera.world_from_camera.map((row) => row[2]);
  const byId = new Map();
  for (const p of world.points) byId.set(p.id, d3.sum(p.xyz.map((v, k) => (v - camera.position[k]) * forward[k])));
  return byId;
}

export function drawCoverage(c, state, toScreen) {
  const { tracks, attempt, frame, width, height } = state;
  if (!tracks) return;
  const known = depths(attempt, frame);
  const cells = Array.from({ length: COLUMNS * ROWS }, () => ({ count: 0, bands: [0, 0, 0] }));
  const all = [];
  for (const s of tracks.samples[frame - tracks.origin] ?? []) {
    const t = tracks.track[s];
    if (standing(tracks, t, attempt) !== "active") continue;
    const col = Math.min(Math.floor((tracks.x[s] / width) * COLUMNS), COLUMNS - 1);
    const row = Math.min(Math.floor((tracks.y[s] / height) * ROWS), ROWS - 1);
    all.push([row * COLUMNS + col, known.get(tracks.ids[t])]);
  }
  const ordered = all
    .map((a) => a[1])
    .filter((d) => d > 0)
    .sort(d3.ascending);
  const limits = [d3.quantile(ordered, 1 / 3), d3.quantile(ordered, 2 / 3)];
  for (const [k, d] of all) {
    cells[k].count += 1;
    if (d > 0) cells[k].bands[d < limits[0] ? 0 : d < limits[1] ? 1 : 2] += 1;
  }
  const most = Math.max(
    8,
    d3.max(cells, (k) => k.count),
  );
  cells.forEach((cell, k) =>
    drawCell(
      c,
      cell,
      most,
      ordered.length > 0,
      toScreen(((k % COLUMNS) / COLUMNS) * width, (Math.floor(k / COLUMNS) / ROWS) * height),
      toScreen((((k % COLUMNS) + 1) / COLUMNS) * width, ((Math.floor(k / COLUMNS) + 1) / ROWS) * height),
    ),
  );
}

function drawCell(c, { count, bands }, most, solved, [ax, ay], [bx, by]) {
  c.strokeStyle = "#ebe5d83a";
  c.lineWidth = 1;
  c.strokeRect(ax, ay, bx - ax, by - ay);
  if (count === 0) {
    c.save();
    c.beginPath();
    c.rect(ax, ay, bx - ax, by - ay);
    c.clip();
    c.strokeStyle = "#d5559a80";
    c.beginPath();
    for (let x = ax - (by - ay); x < bx; x += 11) {
      c.moveTo(x, by);
      c.lineTo(x + (by - ay), ay);
    }
    c.stroke();
    c.restore();
  }
  c.fillStyle = count === 0 ? INK.orchid : count < most / 6 ? INK.amber : INK.verdigris;
  c.fillRect(ax + 5, ay + 5, 26, 15);
  c.fillStyle = "#10161c";
  c.font = "600 11px 'JetBrains Mono'";
  c.fillText(count, ax + 8, ay + 16.5);
  if (!solved || !count) return;
  bands.forEach((n, k) => {
    c.fillStyle = "#10161cb0";
    c.fillRect(ax + 5, ay + 23 + 8 * k, 34, 6);
    c.fillStyle = ["#ebe5d8", "#93a1ab", "#5f7382"][k];
    c.fillRect(ax + 5, ay + 23 + 8 * k, Math.min(34, (34 * n) / Math.max(most / 2, 1)), 6);
  });
}
