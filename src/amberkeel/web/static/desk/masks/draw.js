// How masks are drawn over the plate: mattes tinted, shapes with their margin, keys' ghosts, spots, evidence.
import { INK } from "../shell/colour.js";
import { alive, bounds, flatten, keyFrames, pointsAt } from "./shapes.js";

const KEPT = 60;
const bitmaps = new Map();

/** A matte's bitmap if it has come; asks for it otherwise and tells `loaded` when it is there. */
function bitmap(hash, loaded) {
  if (bitmaps.has(hash)) return bitmaps.get(hash);
  bitmaps.set(hash, null);
  fetch(`/mattes/${hash}.png`)
    .then((a) => a.blob())
    .then(createImageBitmap)
    .then((made) => {
      bitmaps.set(hash, made);
      if (bitmaps.size > KEPT) bitmaps.delete(bitmaps.keys().next().value);
      loaded();
    })
    .catch(() => bitmaps.delete(hash));
  return null;
}

const tinted = document.createElement("canvas");

function drawMatte(c, hash, colour, alpha, toScreen, state, loaded) {
  const picture = bitmap(hash, loaded);
  if (!picture) return;
  if (tinted.width !== picture.width || tinted.height !== picture.height)
    [tinted.width, tinted.height] = [picture.width, picture.height];
  const t = tinted.getContext("2d", { willReadFrequently: true });
  t.globalCompositeOperation = "copy";
  t.drawImage(picture, 0, 0);
  t.globalCompositeOperation = "source-in";
  t.fillStyle = colour;
  t.fillRect(0, 0, tinted.width, tinted.height);
  const [x0, y0] = toScreen(0, 0);
  const [x1, y1] = toScreen(state.width, state.height);
  c.globalAlpha = alpha;
  c.drawImage(tinted, x0, y0, x1 - x0, y1 - y0);
  c.globalAlpha = 1;
}

function trace(c, points, toScreen) {
  c.beginPath();
  for (const [x, y] of flatten(points)) c.lineTo(...toScreen(x, y));
  c.closePath();
}

function drawShape(c, mask, points, toScreen, chosen, scale) {
  trace(c, points, toScreen);
  c.lineJoin = "round";
  c.fillStyle = mask.colour;
  c.strokeStyle = mask.colour;
  c.globalAlpha = mask.on ? (chosen ? 0.3 : 0.2) : 0.05;
  if (mask.purpose === "keep") c.globalAlpha *= 0.35;
  c.fill();
  if (mask.margin > 0 && mask.on) {
    c.globalAlpha = 0.22;
    c.lineWidth = 2 * mask.margin * scale;
    c.stroke();
  }
  c.globalAlpha = mask.on ? 1 : 0.5;
  c.lineWidth = chosen ? 2 : 1.25;
  c.setLineDash(mask.purpose === "keep" ? [7, 4] : mask.on ? [] : [2, 4]);
  c.stroke();
  c.setLineDash([]);
  c.globalAlpha = 1;
}

/** The outlines of the keys before and after this frame. */
function drawGhosts(c, mask, frame, toScreen) {
  const frames = keyFrames(mask);
  const near = [frames.filter((f) => f < frame).at(-1), frames.find((f) => f > frame)];
  c.strokeStyle = mask.colour;
  c.lineWidth = 1;
  near.forEach((f, k) => {
    if (f === undefined) return;
    trace(c, mask.keys[f].points, toScreen);
    c.setLineDash(k ? [2, 3] : [6, 3]);
    c.globalAlpha = 0.55;
    c.stroke();
  });
  c.setLineDash([]);
  c.globalAlpha = 1;
}

/** Handles of the shape being edited: points, the tangents of the chosen one, and the frame to scale and turn by. */
function drawHandles(c, points, chosenPoint, pivot, toScreen) {
  const [x0, y0, x1, y1] = bounds(points);
  c.strokeStyle = "#93a1ab88";
  c.lineWidth = 1;
  const [ax, ay] = toScreen(x0, y0);
  const [bx, by] = toScreen(x1, y1);
  c.setLineDash([1, 4]);
  c.strokeRect(ax - 10, ay - 10, bx - ax + 20, by - ay + 20);
  c.setLineDash([]);
  c.fillStyle = INK.muted;
  for (const [x, y] of frameHandles(points, toScreen)) c.fillRect(x - 3.5, y - 3.5, 7, 7);
  const [tx, ty] = turnHandle(points, toScreen);
  c.beginPath();
  c.arc(tx, ty, 4, 0, 7);
  c.fill();
  const [px, py] = toScreen(...pivot);
  c.strokeStyle = INK.amber;
  c.beginPath();
  c.moveTo(px - 6, py);
  c.lineTo(px + 6, py);
  c.moveTo(px, py - 6);
  c.lineTo(px, py + 6);
  c.stroke();
  points.forEach((p, k) => {
    const [x, y] = toScreen(p[0], p[1]);
    if (k === chosenPoint) {
      for (const n of [2, 4]) {
        const [hx, hy] = toScreen(p[0] + p[n], p[1] + p[n + 1]);
        c.strokeStyle = INK.sail;
        c.beginPath();
        c.moveTo(x, y);
        c.lineTo(hx, hy);
        c.stroke();
        c.fillStyle = INK.sail;
        c.beginPath();
        c.arc(hx, hy, 3, 0, 7);
        c.fill();
      }
    }
    c.fillStyle = k === chosenPoint ? INK.amber : INK.hull;
    c.strokeStyle = k === chosenPoint ? INK.amber : INK.sail;
    c.lineWidth = 1.5;
    c.beginPath();
    c.moveTo(x, y - 4.5);
    c.lineTo(x + 4.5, y);
    c.lineTo(x, y + 4.5);
    c.lineTo(x - 4.5, y);
    c.closePath();
    c.fill();
    c.stroke();
  });
}

export function frameHandles(points, toScreen) {
  const [x0, y0, x1, y1] = bounds(points);
  const [ax, ay] = toScreen(x0, y0);
  const [bx, by] = toScreen(x1, y1);
  return [
    [ax - 10, ay - 10],
    [bx + 10, ay - 10],
    [bx + 10, by + 10],
    [ax - 10, by + 10],
  ];
}

export function turnHandle(points, toScreen) {
  const [x0, y0, x1] = bounds(points);
  const [x, y] = toScreen((x0 + x1) / 2, y0);
  return [x, y - 26];
}

function drawSpots(c, samples, frame, toScreen) {
  for (const [f, x, y, subject] of samples) {
    if (f !== frame) continue;
    const [px, py] = toScreen(x, y);
    c.fillStyle = "#10161cc0";
    c.beginPath();
    c.arc(px, py, 7, 0, 7);
    c.fill();
    c.strokeStyle = subject ? INK.amber : INK.sail;
    c.lineWidth = 2;
    c.beginPath();
    c.moveTo(px - 4, py);
    c.lineTo(px + 4, py);
    if (subject) {
      c.moveTo(px, py - 4);
      c.lineTo(px, py + 4);
    }
    c.stroke();
  }
}

/** Where tracks of a proposal went, against where the background, or for a reflection its twin, says they should be. */
function drawEvidence(c, proposal, state, toScreen) {
  const { tracks, frame } = state;
  if (!tracks) return;
  const since = proposal.evidence.gap ? frame - proposal.evidence.gap : -Infinity;
  for (const [id, frames, predicted] of proposal.evidence.tails ?? []) {
    const t = tracks.row.get(id);
    const k = frames.findLastIndex((f) => f <= frame && f >= frame - 1);
    if (t === undefined || k < 0) continue;
    const own = [];
    for (let s = tracks.first[t]; s < tracks.first[t + 1]; s += 1)
      if (tracks.frames[s] <= frame && tracks.frames[s] >= since) own.push(toScreen(tracks.x[s], tracks.y[s]));
    if (own.length < 2) continue;
    c.lineWidth = 2;
    c.strokeStyle = INK.orchid;
    c.beginPath();
    own.forEach((p) => c.lineTo(...p));
    c.stroke();
    c.strokeStyle = INK.verdigris;
    c.setLineDash([3, 3]);
    c.beginPath();
    c.moveTo(...(proposal.kind === "reflection" ? own.at(-1) : own[0]));
    c.lineTo(...toScreen(...predicted[k]));
    c.stroke();
    c.setLineDash([]);
  }
}

/** How strongly the proposal that is chosen is drawn, and the others that wait for a decision. */
const [CHOSEN, FAINT] = [0.42, 0.2];

/** Draw the masks of a frame: all, only the chosen one, or only the others. `edit` holds what is drawn or dragged. */
export function drawMasks(c, state, edit, toScreen, scale, loaded, which = "all") {
  const { masks, frame } = state;
  const editing = state.stage === "masks";
  for (const mask of masks?.masks ?? []) {
    if (!alive(mask, frame)) continue;
    const chosen = editing && mask.id === state.mask;
    if (which !== "all" && chosen !== (which === "chosen")) continue;
    const trial = chosen && edit.tried?.frame === frame ? edit.tried.matte : null;
    const hash = trial ?? mask.mattes[frame];
    if (hash && mask.kind === "matte")
      drawMatte(c, hash, mask.colour, !mask.on ? 0.1 : chosen ? 0.5 : 0.34, toScreen, state, loaded);
    if (mask.kind === "shape")
      drawShape(c, mask, chosen && edit.points ? edit.points : pointsAt(mask, frame), toScreen, chosen, scale);
    if (!chosen) continue;
    if (mask.kind === "shape") {
      drawGhosts(c, mask, frame, toScreen);
      drawHandles(c, edit.points ?? pointsAt(mask, frame), edit.point, edit.pivotAt(mask), toScreen);
    }
    drawSpots(c, mask.samples, frame, toScreen);
  }
  if (edit.grip?.kind === "stroke") drawSpots(c, edit.grip.spots, frame, toScreen);
  if (!editing || which === "others") return;
  const shown = masks?.proposals.find((p) => p.id === state.proposal);
  for (const p of masks?.proposals ?? [])
    if (p.mattes[frame] && p.state === "open")
      drawMatte(c, p.mattes[frame], INK.orchid, p === shown ? CHOSEN : FAINT, toScreen, state, loaded);
  if (shown) drawEvidence(c, shown, state, toScreen);
  if (edit.draft) drawDraft(c, edit.draft, toScreen);
}

function drawDraft(c, draft, toScreen) {
  c.strokeStyle = INK.amber;
  c.lineWidth = 1.5;
  c.beginPath();
  const outline = draft.closed ? flatten(draft.points) : draft.points;
  for (const p of outline) c.lineTo(...toScreen(p[0], p[1]));
  if (draft.closed) c.closePath();
  else if (draft.hover) c.lineTo(...toScreen(...draft.hover));
  c.stroke();
  if (draft.closed) return;
  c.fillStyle = INK.amber;
  draft.points.forEach((p, k) => {
    const [x, y] = toScreen(p[0], p[1]);
    c.fillRect(x - (k ? 3 : 5), y - (k ? 3 : 5), k ? 6 : 10, k ? 6 : 10);
  });
}
