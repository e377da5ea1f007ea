// The lanes of a body: residuals of the tracks it is solved of, those picked as curves, and how many are seen.
import { INK } from "../shell/colour.js";
import { bodyOf } from "../ties/words.js";
import { drawSpread, spreadOf } from "./residual.js";

/** Residuals by frame of each body as it was read: pixels from where each of its points is seen to where measured,
 * outliers left out. */
const kept = new WeakMap();

/** The body whose lanes stand here: the one that is chosen on its bench; null elsewhere, and where none is solved. */
export function bodyShown({ stage, ties }) {
  if (stage !== "ties" || ties.bench !== "bodies") return null;
  const one = bodyOf(ties.bodies ?? [], ties.body);
  return one?.measured ? one : null;
}

/** By frame of the shot: residuals by name of a track, pixels. */
function residualsOf(one, first, last) {
  if (kept.has(one)) return kept.get(one);
  const out = d3.range(first, last + 1).map((frame) => {
    const own = new Map();
    (one.measured[frame] ?? []).forEach((at, k) => {
      const seen = one.seen[frame]?.[k];
      if (at && seen && !at[2]) own.set(one.names[k], Math.hypot(at[0] - seen[0], at[1] - seen[1]));
    });
    return own;
  });
  kept.set(one, out);
  return out;
}

/** How many of a body's tracks are seen on each frame of the shot. */
export const liveOf = (one, first, last) => residualsOf(one, first, last).map((own) => own.size);

/** Draw a body's residuals into `lanes`, between `top` and `top + room`. */
export function drawBody(one, lanes, c, x, top, room) {
  const { first, last, ties } = lanes.store.state;
  const frames = residualsOf(one, first, last);
  const rows = frames.map((own) => spreadOf(own.values()));
  const values = frames.map((own) => (own.size ? Math.sqrt(d3.mean(own.values(), (v) => v * v)) : null));
  const most = Math.max(0.2, d3.max(values) ?? 0, d3.max(rows, (r) => r.high) ?? 0);
  const y = d3.scaleLinear([0, most * 1.08], [top + room - 3, top + 5]).clamp(true);
  lanes.title(c, top, "Residual", "body, px", y, room);
  drawSpread(lanes, c, x, y, { rows, values, first });
  for (const name of (ties.bodyPicked ?? []).slice(0, 8)) {
    const curve = frames.flatMap((own, k) => (own.has(name) ? [[x(first + k), y(own.get(name))]] : []));
    lanes.curve(c, curve, INK.amber, 1.4);
  }
}
