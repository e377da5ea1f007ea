// Residuals as sticks from measured to reprojected, lengthened by the factor shown. What was set aside is a small dim
// cross, and a thin dashed stick once its track is selected: the wild ones must not cover a good solve.
import { INK } from "../../shell/colour.js";
import { eachSample, stepped } from "./samples.js";

/** Sticks longer than this on the screen are not drawn, px. */
const LONGEST_PX = 400;

const CROSS_PX = 3;

export const sticks = {
  shown: ({ layers }, mode) => layers.sticks && mode.judging && !mode.blind && !mode.choosing,

  draw(context, state, { toScreen }) {
    const looks = new Map();
    const [crosses, aside] = [new Path2D(), new Path2D()];
    eachSample(state, state.frame, (t, s, x, y, standing_, error) => {
      if (!error) return;
      const [ax, ay] = toScreen(x, y);
      const [bx, by] = toScreen(x + error[0] * state.exaggeration, y + error[1] * state.exaggeration);
      const long = Math.hypot(bx - ax, by - ay) > LONGEST_PX;
      if (error[3] || standing_ === "excluded") {
        cross(crosses, ax, ay);
        if (!long && state.selection.has(state.tracks.ids[t])) stick(aside, ax, ay, bx, by);
        return;
      }
      if (long) return;
      const colour = stepped(error[2]);
      let path = looks.get(colour);
      if (!path) looks.set(colour, (path = new Path2D()));
      stick(path, ax, ay, bx, by);
    });
    context.lineWidth = 2;
    for (const [colour, path] of looks) {
      context.strokeStyle = colour;
      context.stroke(path);
    }
    context.strokeStyle = INK.muted;
    context.lineWidth = 1;
    context.globalAlpha = 0.55;
    context.stroke(crosses);
    context.globalAlpha = 1;
    context.setLineDash([3, 3]);
    context.stroke(aside);
    context.setLineDash([]);
  },
};

function stick(path, ax, ay, bx, by) {
  path.moveTo(ax, ay);
  path.lineTo(bx, by);
}

function cross(path, x, y) {
  path.moveTo(x - CROSS_PX, y - CROSS_PX);
  path.lineTo(x + CROSS_PX, y + CROSS_PX);
  path.moveTo(x - CROSS_PX, y + CROSS_PX);
  path.lineTo(x + CROSS_PX, y - CROSS_PX);
}
