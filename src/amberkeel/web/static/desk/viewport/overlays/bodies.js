// The points of the shot's bodies over the plate, those that are picked marked, and their probe boxes: a box that stays
// on its body shows no slip.
import { INK } from "../../shell/colour.js";

export const bodies = {
  shown: ({ stage, ties }) => stage === "ties" && ties.bench === "bodies" && Boolean(ties.bodies?.length),

  draw(context, { ties, frame }, { toScreen }) {
    for (const one of ties.bodies) {
      drawBox(context, one.over?.[frame] ?? [], toScreen);
      const chosen = one.key === (ties.body ?? ties.bodies[0].key);
      (one.seen?.[frame] ?? []).forEach(([x, y], k) => {
        const picked = chosen && ties.bodyPicked?.includes(one.names[k]);
        drawPoint(context, ...toScreen(x, y), picked, chosen);
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

function drawPoint(c, x, y, picked, chosen) {
  const size = picked ? 7 : 3.5;
  c.globalAlpha = chosen ? 1 : 0.5;
  c.strokeStyle = picked ? INK.amber : INK.orchid;
  c.lineWidth = picked ? 2 : 1.2;
  c.beginPath();
  c.moveTo(x - size, y);
  c.lineTo(x + size, y);
  c.moveTo(x, y - size);
  c.lineTo(x, y + size);
  c.stroke();
  if (picked) c.strokeRect(x - size, y - size, 2 * size, 2 * size);
  c.globalAlpha = 1;
}
