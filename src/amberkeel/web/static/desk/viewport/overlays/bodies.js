// The points of the shot's bodies over the plate, those that are picked marked, with their residuals as sticks, and
// their probe boxes and proxies: a box that stays on its body shows no slip.
import { INK, ramp } from "../../shell/colour.js";

/** Expected noise of a followed spot, pixels at the plate's resolution, as the list of tracks has it. */
const USUAL_PX = 0.08;

export const bodies = {
  shown: ({ stage, ties }) => stage === "ties" && ties.bench === "bodies" && Boolean(ties.bodies?.length),

  draw(context, { ties, frame, exaggeration }, { toScreen }) {
    for (const one of ties.bodies) {
      drawBox(context, one.over?.[frame] ?? [], toScreen);
      const chosen = one.key === (ties.body ?? ties.bodies[0].key);
      if (chosen) drawSticks(context, one, frame, toScreen, exaggeration);
      const rms = new Map(one.tracks?.map((track) => [track.name, track.rms_px]));
      (one.seen?.[frame] ?? []).forEach(([x, y], k) => {
        const picked = chosen && ties.bodyPicked?.includes(one.names[k]);
        const colour = chosen ? ramp((rms.get(one.names[k]) ?? 0) / USUAL_PX) : INK.muted;
        drawPoint(context, ...toScreen(x, y), picked, colour);
      });
    }
  },
};

function drawBox(c, lines, toScreen) {
  c.strokeStyle = INK.sail;
  c.lineWidth = 1.2;
  c.globalAlpha = 0.75;
  c.beginPath();
  for (const [ax, ay, bx, by] of lines) {
    c.moveTo(...toScreen(ax, ay));
    c.lineTo(...toScreen(bx, by));
  }
  c.stroke();
  c.globalAlpha = 1;
}

/** From where each point was measured towards where it is seen by the solve, lengthened. */
function drawSticks(c, { seen, measured }, frame, toScreen, lengthened) {
  c.lineWidth = 2;
  (measured?.[frame] ?? []).forEach((at, k) => {
    if (!at) return;
    const off = [seen[frame][k][0] - at[0], seen[frame][k][1] - at[1]];
    c.strokeStyle = ramp(Math.hypot(...off) / USUAL_PX);
    c.beginPath();
    c.moveTo(...toScreen(...at));
    c.lineTo(...toScreen(at[0] + off[0] * lengthened, at[1] + off[1] * lengthened));
    c.stroke();
  });
}

function drawPoint(c, x, y, picked, colour) {
  const size = picked ? 7 : 3.5;
  c.strokeStyle = picked ? INK.amber : colour;
  c.lineWidth = picked ? 2 : 1.2;
  c.beginPath();
  c.moveTo(x - size, y);
  c.lineTo(x + size, y);
  c.moveTo(x, y - size);
  c.lineTo(x, y + size);
  c.stroke();
  if (picked) c.strokeRect(x - size, y - size, 2 * size, 2 * size);
}
