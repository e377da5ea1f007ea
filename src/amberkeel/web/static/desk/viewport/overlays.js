// What is drawn over the plate. Each layer draws from the state; `place` takes plate pixels to the screen.
import { INK, RAMP_END, ramp } from "../shell/colour.js";
import { standing } from "../tracks/index.js";

const TAIL = 14;

/** A tail fades in this many steps, and bends no finer than this on the screen. */
const FADES = 7;
const BEND_PX = 2;

/** Names of the groups that are hidden, or null where none is. */
function hiddenGroups(state) {
  const names = Object.entries(state.server?.groups ?? {}).filter(([, g]) => g.hidden).map(([name]) => name);
  return names.length ? new Set(names) : null;
}

/** Visit the samples on a frame with their track, position, standing and error. */
function eachSample(state, frame, visit) {
  const { tracks, attempt } = state;
  if (!tracks) return;
  const hidden = hiddenGroups(state);
  for (const s of tracks.samples[frame - tracks.origin] ?? []) {
    const t = tracks.track[s];
    if (hidden && hidden.has(tracks.groups[t])) continue;
    visit(t, s, tracks.x[s], tracks.y[s], standing(tracks, t, attempt), attempt?.errors.get(tracks.ids[t])?.get(frame));
  }
}

/** `place` as its factors and offsets: quicker for thousands of places. */
function factors(place) {
  const [ox, oy] = place(0, 0);
  const [ux, uy] = place(1, 1);
  return [ux - ox, ox, uy - oy, oy];
}

export function drawTails(context, state, place) {
  const { tracks, frame } = state;
  const plain = Array.from({ length: FADES }, () => new Path2D());
  const chosen = Array.from({ length: FADES }, () => new Path2D());
  const [kx, ox, ky, oy] = factors(place);
  eachSample(state, frame, (t, s, x, y, standing_) => {
    if (standing_ === "excluded") return;
    const paths = state.selection.has(tracks.ids[t]) ? chosen : plain;
    const from = Math.max(tracks.first[t], s - TAIL);
    let [ax, ay, path] = [tracks.x[from] * kx + ox, tracks.y[from] * ky + oy, null];
    for (let k = from + 1; k <= s; k += 1) {
      const bx = tracks.x[k] * kx + ox;
      const by = tracks.y[k] * ky + oy;
      if (k < s && Math.abs(bx - ax) + Math.abs(by - ay) < BEND_PX) continue;
      const fading = paths[Math.floor(((k - 1 - s + TAIL) * FADES) / TAIL)];
      if (fading !== path) (path = fading).moveTo(ax, ay);
      path.lineTo(bx, by);
      ax = bx;
      ay = by;
    }
  });
  context.lineWidth = 1;
  for (let k = 0; k < FADES; k += 1) {
    context.globalAlpha = 0.5 * ((k + 1) / FADES);
    context.strokeStyle = INK.sail;
    context.stroke(plain[k]);
    context.strokeStyle = INK.amber;
    context.stroke(chosen[k]);
  }
  context.globalAlpha = 1;
}

/** A residual's colour in steps, so that marks of one colour can be drawn at once. */
const steps = [];
function stepped(sigmas) {
  const step = Math.round(Math.min(sigmas, RAMP_END) * 4);
  return (steps[step] ??= ramp(step / 4));
}

/** Half a mark's size on the screen: smaller where the plate is. */
function markSize(state, place) {
  return Math.round(Math.min(Math.max((place(state.width, 0)[0] - place(0, 0)[0]) / 190, 2.2), 5) * 4) / 4;
}

const stamps = new Map();

/** A mark's small picture stands on whole pixels; within one it may lie at this many places each way. */
const PHASES = 4;

/** The small picture of a mark of one look that lies `phase` of PHASES * PHASES within its pixel; made once and kept. */
function stamp({ colour, off, dash, kind }, size, half, ratio, phase) {
  const made = `${colour} ${off} ${dash} ${kind} ${size} ${ratio} ${phase}`;
  if (stamps.has(made)) return stamps.get(made);
  if (stamps.size > 4000) stamps.clear();
  const picture = new OffscreenCanvas(2 * half, 2 * half);
  const c = picture.getContext("2d", { willReadFrequently: true });
  c.setTransform(ratio, 0, 0, ratio, half + ((phase % PHASES) + 0.5) / PHASES, half + (Math.floor(phase / PHASES) + 0.5) / PHASES);
  c.globalAlpha = off ? 0.45 : 1;
  c.setLineDash(dash ? [2, 2] : []);
  c.beginPath();
  if (kind === "tag") c.rect(-size, -size, 2 * size, 2 * size);
  else c.arc(0, 0, size, 0, 7);
  c.strokeStyle = "#0008";
  c.lineWidth = size > 3 ? 3.5 : 2.5;
  c.stroke();
  c.strokeStyle = c.fillStyle = colour;
  c.lineWidth = 1.5;
  if (kind === "hand") c.fill();
  c.stroke();
  const kept = picture.transferToImageBitmap();
  stamps.set(made, kept);
  return kept;
}

/** Draw marks of one look, each a small picture put on whole pixels: far quicker than stroking hundreds of circles. */
function drawMarks(context, look, size) {
  const ratio = context.getTransform().a;
  const half = Math.ceil((size + 2) * ratio) + 1;
  const own = [];
  context.save();
  context.setTransform(1, 0, 0, 1, 0, 0);
  context.imageSmoothingEnabled = false;
  for (let k = 0; k < look.places.length; k += 2) {
    const x = look.places[k] * ratio;
    const y = look.places[k + 1] * ratio;
    const left = Math.floor(x);
    const top = Math.floor(y);
    const phase = Math.floor((x - left) * PHASES) + PHASES * Math.floor((y - top) * PHASES);
    own[phase] ??= stamp(look, size, half, ratio, phase);
    context.drawImage(own[phase], left - half, top - half);
  }
  context.restore();
}

/** `blind` keeps the solve out of it: marks have no residual's colour then. */
export function drawTracks(context, state, place, blind = false) {
  const { tracks, frame } = state;
  const size = markSize(state, place);
  const looks = new Map();
  const halo = new Path2D();
  const names = [];
  eachSample(state, frame, (t, s, x, y, standing_, error) => {
    const [px, py] = place(x, y);
    const off = standing_ === "excluded";
    const kind = tracks.kinds[t];
    const own = state.server?.groups?.[tracks.groups[t]]?.colour;
    const colour = off ? INK.muted : own ? own : error && !blind ? stepped(error[2]) : INK.verdigris;
    const key = `${colour}|${standing_}|${kind}`;
    let look = looks.get(key);
    if (!look) looks.set(key, (look = { colour, off, dash: standing_ === "check", kind, places: [] }));
    look.places.push(px, py);
    if (!state.selection.has(tracks.ids[t])) return;
    halo.moveTo(px + 9, py);
    halo.arc(px, py, 9, 0, 7);
    names.push([tracks.names[t], px + 12, py + 4]);
  });
  for (const look of looks.values()) drawMarks(context, look, size);
  context.globalAlpha = 1;
  context.setLineDash([]);
  context.strokeStyle = INK.amber;
  context.lineWidth = 2;
  context.stroke(halo);
  if (names.length <= 12) for (const name of names) label(context, ...name);
}

function label(context, text, x, y) {
  context.font = "12px 'JetBrains Mono'";
  context.lineWidth = 3;
  context.strokeStyle = "#10161ccc";
  context.strokeText(text, x, y);
  context.fillStyle = INK.amber;
  context.fillText(text, x, y);
}

export function drawSticks(context, state, place) {
  const looks = new Map();
  eachSample(state, state.frame, (t, s, x, y, standing_, error) => {
    if (!error) return;
    const [ax, ay] = place(x, y);
    const [bx, by] = place(x + error[0] * state.exaggeration, y + error[1] * state.exaggeration);
    if (Math.hypot(bx - ax, by - ay) > 400) return;
    const alpha = standing_ === "excluded" ? 0.35 : 1;
    const colour = stepped(error[2]);
    let look = looks.get(`${colour}|${alpha}`);
    if (!look) looks.set(`${colour}|${alpha}`, (look = { colour, alpha, path: new Path2D() }));
    look.path.moveTo(ax, ay);
    look.path.lineTo(bx, by);
  });
  context.lineWidth = 2;
  for (const { colour, alpha, path } of looks.values()) {
    context.globalAlpha = alpha;
    context.strokeStyle = colour;
    context.stroke(path);
  }
  context.globalAlpha = 1;
}

export function drawPoints(context, state, place) {
  const crosses = new Path2D();
  eachSample(state, state.frame, (t, s, x, y, standing_, error) => {
    if (!error || standing_ === "excluded") return;
    const [px, py] = place(x + error[0], y + error[1]);
    crosses.moveTo(px - 3, py);
    crosses.lineTo(px + 3, py);
    crosses.moveTo(px, py - 3);
    crosses.lineTo(px, py + 3);
  });
  context.strokeStyle = INK.sail;
  context.lineWidth = 1;
  context.stroke(crosses);
}

export function drawCard(context, state, place) {
  const outlines = state.attempt?.card?.[state.frame - state.first];
  if (!outlines) return;
  for (const outline of outlines) {
    context.beginPath();
    for (const [x, y] of outline) context.lineTo(...place(x, y));
    context.closePath();
    context.fillStyle = "#f2a33a5c";
    context.fill();
    context.strokeStyle = "#f2a33acc";
    context.lineWidth = 1;
    context.stroke();
  }
}

/** Rings around the tracks that a filter would select. */
export function drawFlagged(context, state, place) {
  const rings = new Path2D();
  eachSample(state, state.frame, (t, s, x, y) => {
    if (!state.flagged.has(state.tracks.ids[t])) return;
    const [px, py] = place(x, y);
    rings.moveTo(px + 10, py);
    rings.arc(px, py, 10, 0, 7);
  });
  context.strokeStyle = INK.orchid;
  context.lineWidth = 2;
  context.stroke(rings);
}

export function drawPreview(context, state, place) {
  if (!state.preview || state.preview.frame !== state.frame) return;
  context.strokeStyle = INK.amber;
  context.lineWidth = 1.5;
  const size = markSize(state, place);
  for (const [x, y] of state.preview.features) {
    const [px, py] = place(x, y);
    context.strokeRect(px - size, py - size, 2 * size, 2 * size);
  }
}

const key = { canvas: document.createElement("canvas"), made: "" };

/** The key of the residual ramp, with the exaggeration; drawn once and kept. */
export function drawKey(context, state, width, height) {
  if (!state.attempt) return;
  const ratio = context.getTransform().a;
  const made = `${state.exaggeration} ${ratio}`;
  if (key.made !== made) {
    key.made = made;
    paintKey(state.exaggeration, ratio);
  }
  context.drawImage(key.canvas, width - 224, height - 48, 214, 40);
}

function paintKey(exaggeration, ratio) {
  [key.canvas.width, key.canvas.height] = [214 * ratio, 40 * ratio];
  const c = key.canvas.getContext("2d", { willReadFrequently: true });
  c.setTransform(ratio, 0, 0, ratio, 0, 0);
  c.fillStyle = "#10161ccc";
  c.fillRect(0, 0, 214, 40);
  for (let k = 0; k < 120; k += 1) {
    c.fillStyle = ramp((k / 120) * RAMP_END);
    c.fillRect(10 + k, 8, 1.5, 7);
  }
  c.fillStyle = INK.muted;
  c.font = "11px 'JetBrains Mono'";
  c.fillText("0", 10, 28);
  c.fillText(`${RAMP_END}+ σ`, 104, 28);
  c.fillStyle = INK.sail;
  c.fillText(`sticks ×${exaggeration}`, 142, 16);
}
