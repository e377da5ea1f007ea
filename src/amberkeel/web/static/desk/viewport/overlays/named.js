// The point under the pointer, before it is taken: its name large, its patch magnified, and where it lies.
import { INK } from "../../shell/colour.js";
import { figureOf } from "../../world/figures.js";

const PATCH = 96;
const WIDTH = 250;

export const named = {
  shown: ({ stage, world }) => stage === "world" && world.hover != null && !world.tool && !world.draft,

  draw(context, state, { toScreen, width, height }) {
    const { tracks, attempt, world, frame } = state;
    const t = tracks?.row.get(world.hover.id);
    if (t === undefined) return;
    const sample = (tracks.samples[frame - tracks.origin] ?? []).find((s) => tracks.track[s] === t);
    if (sample === undefined) return;
    const [x, y] = toScreen(tracks.x[sample], tracks.y[sample]);
    context.beginPath();
    context.arc(x, y, 11, 0, 2 * Math.PI);
    context.strokeStyle = INK.sail;
    context.lineWidth = 2;
    context.stroke();
    const left = Math.min(Math.max(x + 24, 8), width - WIDTH - PATCH - 8);
    const top = Math.min(Math.max(y - PATCH - 16, 8), height - PATCH - 16);
    context.fillStyle = "#10161cf0";
    context.fillRect(left, top, WIDTH + PATCH - 60, PATCH + 8);
    const { image } = world.hover;
    if (image?.complete && image.naturalWidth) context.drawImage(image, left + 4, top + 4, PATCH, PATCH);
    context.strokeStyle = INK.amber;
    context.lineWidth = 1;
    context.strokeRect(left + 4 + PATCH / 2 - 9, top + 4 + PATCH / 2 - 9, 18, 18);
    context.fillStyle = INK.amber;
    context.font = "600 22px Barlow";
    context.fillText(tracks.names[t], left + PATCH + 14, top + 30);
    context.font = "12.5px 'JetBrains Mono'";
    context.fillStyle = INK.sail;
    const point = attempt?.world.points.find((p) => p.id === world.hover.id);
    const lines = point
      ? [
          point.xyz.map(figureOf).join("  "),
          point.sigma_along == null ? "depth unknown" : `±${figureOf(point.sigma_along)} deep`,
        ]
      : ["no point in this attempt"];
    lines.forEach((line, k) => context.fillText(line, left + PATCH + 14, top + 54 + 19 * k));
  },
};
