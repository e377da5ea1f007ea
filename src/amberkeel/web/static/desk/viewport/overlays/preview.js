// Features that following would begin with on this frame.
import { INK } from "../../shell/colour.js";
import { markSize } from "./samples.js";

export const preview = {
  shown: ({ preview, frame }) => preview?.frame === frame,

  draw(context, state, { toScreen }) {
    context.strokeStyle = INK.amber;
    context.lineWidth = 1.5;
    const size = markSize(state, toScreen);
    for (const [x, y] of state.preview.features) {
      const [px, py] = toScreen(x, y);
      context.strokeRect(px - size, py - size, 2 * size, 2 * size);
    }
  },
};
