// Planks on a plane: the one under the pointer, or one that is offered, with its slope, size and residual.
import { INK } from "../../shell/colour.js";
import { figureOf } from "../../world/figures.js";

/** Fill of the planks by turns, so that they show as planks. */
const FILLS = ["#f2a33a47", "#f2a33a26"];

export const planks = {
  shown: ({ stage, world, frame }) =>
    stage === "world" && world.bench === "datum" && Boolean((world.under ?? world.offered)?.frame === frame),

  draw(context, state, { toScreen }) {
    const { under, offered } = state.world;
    const shown = under ?? offered;
    if (shown.trouble) return note(context, toScreen(...shown.spot), [shown.trouble], INK.orchid);
    const through = new Set(shown.tracks);
    context.fillStyle = INK.amber;
    const { tracks, frame } = state;
    for (const s of tracks?.samples[frame - tracks.origin] ?? []) {
      if (!through.has(tracks.ids[tracks.track[s]])) continue;
      const [x, y] = toScreen(tracks.x[s], tracks.y[s]);
      context.fillRect(x - 2, y - 2, 4, 4);
    }
    context.lineWidth = 1.2;
    shown.planks.forEach((outline, k) => {
      context.beginPath();
      for (const p of outline) context.lineTo(...toScreen(...p));
      context.closePath();
      context.fillStyle = FILLS[k % 2];
      context.fill();
      context.strokeStyle = "#f2a33ad9";
      context.stroke();
    });
    stroke(context, shown.ahead, toScreen, INK.amber, 2.5);
    stroke(context, shown.mast, toScreen, INK.sail, 2.5);
    const at = shown.spot ? toScreen(...shown.spot) : toScreen(...(shown.mast?.[0] ?? [0, 0]));
    const unit = state.server?.datum?.distances?.length ? "m" : "units";
    note(context, at, [
      `slope ${shown.slope.toFixed(2)}°`,
      `planks ${figureOf(shown.length)} ${unit}, ${figureOf(shown.distance)} ${unit} away`,
      `${shown.tracks.length} points, ${shown.rms_px.toFixed(2)} px RMS`,
    ]);
    return null;
  },
};

function stroke(context, line, toScreen, colour, width) {
  if (!line) return;
  context.beginPath();
  for (const p of line) context.lineTo(...toScreen(...p));
  context.strokeStyle = colour;
  context.lineWidth = width;
  context.stroke();
}

function note(context, [x, y], lines, colour = INK.sail) {
  context.font = "12.5px Barlow";
  const width = Math.max(...lines.map((line) => context.measureText(line).width)) + 16;
  const [left, top] = [x + 22, y + 16];
  context.fillStyle = "#10161ce0";
  context.fillRect(left, top, width, lines.length * 17 + 9);
  context.fillStyle = colour;
  lines.forEach((line, k) => context.fillText(line, left + 8, top + 18 + 17 * k));
}
