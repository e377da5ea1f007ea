// The key of the residual ramp, with the exaggeration; drawn once and kept.
import { INK, RAMP_END, ramp } from "../../shell/colour.js";

const kept = { canvas: document.createElement("canvas"), made: "" };

function paintKey(exaggeration, ratio) {
  [kept.canvas.width, kept.canvas.height] = [214 * ratio, 40 * ratio];
  const c = kept.canvas.getContext("2d", { willReadFrequently: true });
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

export const key = {
  shown: ({ layers, attempt }, mode) =>
    attempt && mode.judging && !mode.blind && !mode.choosing && (layers.sticks || layers.tracks),

  draw(context, state, { width, height }) {
    const ratio = context.getTransform().a;
    const made = `${state.exaggeration} ${ratio}`;
    if (kept.made !== made) {
      kept.made = made;
      paintKey(state.exaggeration, ratio);
    }
    context.drawImage(kept.canvas, width - 224, height - 48, 214, 40);
  },
};
