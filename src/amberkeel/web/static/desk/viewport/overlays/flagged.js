// Rings around the tracks that a filter would select.
import { INK } from "../../shell/colour.js";
import { eachSample } from "./samples.js";

export const flagged = {
  shown: ({ flagged }) => flagged,

  draw(context, state, { toScreen }) {
    const rings = new Path2D();
    eachSample(state, state.frame, (t, s, x, y) => {
      if (!state.flagged.has(state.tracks.ids[t])) return;
      const [px, py] = toScreen(x, y);
      rings.moveTo(px + 10, py);
      rings.arc(px, py, 10, 0, 7);
    });
    context.strokeStyle = INK.orchid;
    context.lineWidth = 2;
    context.stroke(rings);
  },
};
