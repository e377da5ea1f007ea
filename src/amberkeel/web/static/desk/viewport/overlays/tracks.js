// Tracks as marks: their kind by shape, how they stand by stroke, their residual by colour.
import { INK } from "../../shell/colour.js";
import { eachSample, markSize, stepped } from "./samples.js";

const stamps = new Map();

/** A mark's small picture stands on whole pixels; within one it may lie at this many positions each way. */
const PHASES = 4;

/** The small picture of a mark of one look, lying `phase` of PHASES * PHASES within its pixel; made once and kept. */
function stamp({ colour, off, dash, kind }, size, half, ratio, phase) {
  const made = `${colour} ${off} ${dash} ${kind} ${size} ${ratio} ${phase}`;
  if (stamps.has(made)) return stamps.get(made);
  if (stamps.size > 4000) stamps.clear();
  const picture = new OffscreenCanvas(2 * half, 2 * half);
  const c = picture.getContext("2d", { willReadFrequently: true });
  c.setTransform(
    ratio,
    0,
    0,
    ratio,
    half + ((phase % PHASES) + 0.5) / PHASES,
    half + (Math.floor(phase / PHASES) + 0.5) / PHASES,
  );
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
  for (let k = 0; k < look.positions.length; k += 2) {
    const x = look.positions[k] * ratio;
    const y = look.positions[k + 1] * ratio;
    const left = Math.floor(x);
    const top = Math.floor(y);
    const phase = Math.floor((x - left) * PHASES) + PHASES * Math.floor((y - top) * PHASES);
    own[phase] ??= stamp(look, size, half, ratio, phase);
    context.drawImage(own[phase], left - half, top - half);
  }
  context.restore();
}

function label(context, text, x, y) {
  context.font = "12px 'JetBrains Mono'";
  context.lineWidth = 3;
  context.strokeStyle = "#10161ccc";
  context.strokeText(text, x, y);
  context.fillStyle = INK.amber;
  context.fillText(text, x, y);
}

export const tracks = {
  shown: ({ layers }) => layers.tracks,

  draw(context, state, { toScreen, blind, faint }) {
    const { tracks, frame } = state;
    const size = markSize(state, toScreen);
    const looks = new Map();
    const halo = new Path2D();
    const names = [];
    eachSample(state, frame, (t, s, x, y, standing_, error) => {
      const [px, py] = toScreen(x, y);
      const off = standing_ === "excluded";
      const kind = tracks.kinds[t];
      const own = state.server?.groups?.[tracks.groups[t]]?.colour;
      const colour = off ? INK.muted : own ? own : error && !blind ? stepped(error[2]) : INK.verdigris;
      const key = `${colour}|${standing_}|${kind}`;
      let look = looks.get(key);
      if (!look) looks.set(key, (look = { colour, off, dash: standing_ === "check", kind, positions: [] }));
      look.positions.push(px, py);
      if (!state.selection.has(tracks.ids[t])) return;
      halo.moveTo(px + 9, py);
      halo.arc(px, py, 9, 0, 7);
      names.push([tracks.names[t], px + 12, py + 4]);
    });
    context.globalAlpha = faint ? 0.5 : 1;
    for (const look of looks.values()) drawMarks(context, look, size);
    context.globalAlpha = 1;
    context.setLineDash([]);
    context.strokeStyle = INK.amber;
    context.lineWidth = 2;
    context.stroke(halo);
    if (names.length <= 12) for (const name of names) label(context, ...name);
  },
};
