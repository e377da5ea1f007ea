// Residuals as sticks from measured to reprojected, lengthened by the factor shown.
import { eachSample, stepped } from "./samples.js";

/** Sticks longer than this on the screen are not drawn, px. */
const LONGEST_PX = 400;

export const sticks = {
  shown: ({ layers }, mode) => layers.sticks && mode.judging && !mode.blind && !mode.choosing,

  draw(context, state, { toScreen }) {
    const looks = new Map();
    eachSample(state, state.frame, (t, s, x, y, standing_, error) => {
      if (!error) return;
      const [ax, ay] = toScreen(x, y);
      const [bx, by] = toScreen(x + error[0] * state.exaggeration, y + error[1] * state.exaggeration);
      if (Math.hypot(bx - ax, by - ay) > LONGEST_PX) return;
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
  },
};
