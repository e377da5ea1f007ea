// The fading tails of tracks.
import { INK } from "../../shell/colour.js";
import { eachSample, factors } from "./samples.js";

/** Frames that a tail goes back; it fades in this many steps, and bends no finer than this on the screen. */
const TAIL = 14;
const FADES = 7;
const BEND_PX = 2;

export const tails = {
  shown: ({ layers }) => layers.tails && layers.tracks,

  draw(context, state, { toScreen }) {
    const { tracks, frame } = state;
    const plain = Array.from({ length: FADES }, () => new Path2D());
    const chosen = Array.from({ length: FADES }, () => new Path2D());
    const [kx, ox, ky, oy] = factors(toScreen);
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
  },
};
