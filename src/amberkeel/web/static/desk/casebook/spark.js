// The small plot of a finding: residuals of its tracks, or of all frames with its own marked.
import { INK } from "../shell/colour.js";

const [WIDTH, HEIGHT] = [258, 34];
const MOST_TRACKS = 5;

/** A canvas with what shows a finding over frames, or null where nothing by frame does. */
export function drawSpark(finding, state) {
  const { attempt, first, last } = state;
  if (!attempt || (!finding.frames.length && !finding.tracks.length)) return null;
  const canvas = document.createElement("canvas");
  canvas.className = "spark";
  canvas.title = "Go there";
  const ratio = devicePixelRatio || 1;
  [canvas.width, canvas.height] = [WIDTH * ratio, HEIGHT * ratio];
  const c = canvas.getContext("2d");
  c.scale(ratio, ratio);
  const x = d3.scaleLinear([first, last], [2, WIDTH - 2]);
  const lines = finding.tracks
    .slice(0, MOST_TRACKS)
    .map((id) => attempt.errors.get(id))
    .filter(Boolean)
    .map((own) => [...own].sort((a, b) => a[0] - b[0]).map(([f, e]) => [f, Math.hypot(e[0], e[1])]));
  if (!lines.length) lines.push(attempt.frame_rms.map((v, k) => [attempt.first + k, v ?? 0]));
  const y = d3.scaleLinear([0, d3.max(lines.flat(), (p) => p[1]) || 1], [HEIGHT - 2, 3]);
  c.fillStyle = "#f2a33a2e";
  const step = Math.max(1, x(first + 1) - x(first));
  if (finding.frames.length < 0.8 * (last - first))
    for (const f of finding.frames) c.fillRect(x(f) - step / 2, 0, step, HEIGHT);
  for (const line of lines) {
    c.beginPath();
    for (const [f, v] of line) c.lineTo(x(f), y(v));
    c.strokeStyle = finding.tracks.length ? INK.orchid : INK.verdigris;
    c.lineWidth = 1.3;
    c.stroke();
  }
  return canvas;
}
