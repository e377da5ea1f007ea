// Measured slip: a dot at each place by its size on this frame, and the slip itself as a stroke, enlarged.
import { INK, ramp } from "../../shell/colour.js";
import { spotOn } from "../../world/slip.js";

/** Slip at which the ramp ends, px; and by how much strokes are enlarged. */
const FULL_PX = 0.5;
const ENLARGED = 30;

export const measured = {
  shown: ({ stage, world, measured: found }) => stage === "world" && world.bench === "slip" && Boolean(found),

  draw(context, state, { toScreen, scale, width, height }) {
    const { measured: found, world, frame } = state;
    for (const place of found.places) {
      const here = spotOn(place, found, frame);
      if (!here) continue;
      const [x, y] = toScreen(...here.at);
      const size = here.slip ? Math.hypot(...here.slip) : null;
      const chosen = place.number === world.place;
      // Held still, the cross is the place.
      if (chosen && world.still) continue;
      context.beginPath();
      context.arc(x, y, chosen ? 7 : 4.5, 0, 2 * Math.PI);
      context.fillStyle = size == null ? "#93a1ab66" : ramp(size / FULL_PX);
      context.fill();
      context.strokeStyle = chosen ? INK.amber : "#0b1014";
      context.lineWidth = chosen ? 2.5 : 1;
      context.stroke();
      if (size == null) continue;
      context.beginPath();
      context.moveTo(x, y);
      context.lineTo(
        x + here.slip[0] * ENLARGED * Math.min(scale, 2),
        y + here.slip[1] * ENLARGED * Math.min(scale, 2),
      );
      context.strokeStyle = ramp(size / FULL_PX);
      context.lineWidth = 2;
      context.stroke();
    }
    if (world.still) cross(context, width / 2, height / 2);
  },
};

/** The place of the object in a view that is held still on it. */
function cross(context, x, y) {
  context.strokeStyle = INK.amber;
  context.lineWidth = 1.5;
  context.beginPath();
  for (const [ax, ay] of [
    [1, 0],
    [-1, 0],
    [0, 1],
    [0, -1],
  ]) {
    context.moveTo(x + 6 * ax, y + 6 * ay);
    context.lineTo(x + 26 * ax, y + 26 * ay);
  }
  context.stroke();
}
