// The cross that marks a point on the plate and leaves the point itself free.
import { INK } from "../shell/colour.js";

/** Draw a cross about a point on the screen, its arms from `gap` to `reach` pixels away from it. */
export function cross(c, [x, y], gap, reach) {
  c.strokeStyle = INK.amber;
  c.lineWidth = 1;
  c.beginPath();
  for (const way of [-1, 1]) {
    c.moveTo(x + way * gap, y);
    c.lineTo(x + way * reach, y);
    c.moveTo(x, y + way * gap);
    c.lineTo(x, y + way * reach);
  }
  c.stroke();
}
