// Reprojected points as crosses.
import { INK } from "../../shell/colour.js";
import { eachSample } from "./samples.js";

export const points = {
  shown: (state, mode) => (state.layers.points && !mode.blind) || (mode.placing && state.showSolved),

  draw(context, state, { toScreen }) {
    const crosses = new Path2D();
    eachSample(state, state.frame, (t, s, x, y, standing_, error) => {
      if (!error || standing_ === "excluded") return;
      const [px, py] = toScreen(x + error[0], y + error[1]);
      crosses.moveTo(px - 3, py);
      crosses.lineTo(px + 3, py);
      crosses.moveTo(px, py - 3);
      crosses.lineTo(px, py + 3);
    });
    context.strokeStyle = INK.sail;
    context.lineWidth = 1;
    context.stroke(crosses);
  },
};
