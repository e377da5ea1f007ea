// What overlays share: the samples on a frame, and how they are coloured and sized.
import { RAMP_END, ramp } from "../../shell/colour.js";
import { standing } from "../../tracks/index.js";

/** Names of the groups that are hidden, or null where none is. */
function hiddenGroups(state) {
  const names = Object.entries(state.server?.groups ?? {})
    .filter(([, g]) => g.hidden)
    .map(([name]) => name);
  return names.length ? new Set(names) : null;
}

/** Visit the samples on a frame with their track, position, standing and error. */
export function eachSample(state, frame, visit) {
  const { tracks, attempt } = state;
  if (!tracks) return;
  const hidden = hiddenGroups(state);
  for (const s of tracks.samples[frame - tracks.origin] ?? []) {
    const t = tracks.track[s];
    if (hidden && hidden.has(tracks.groups[t])) continue;
    if (state.only && !state.only.has(tracks.ids[t])) continue;
    visit(t, s, tracks.x[s], tracks.y[s], standing(tracks, t, attempt), attempt?.errors.get(tracks.ids[t])?.get(frame));
  }
}

/** `toScreen` as its factors and offsets: quicker for thousands of points. */
export function factors(toScreen) {
  const [ox, oy] = toScreen(0, 0);
  const [ux, uy] = toScreen(1, 1);
  return [ux - ox, ox, uy - oy, oy];
}

/** A residual's colour in steps, so that marks of one colour can be drawn at once. */
const steps = [];
export function stepped(sigmas) {
  const step = Math.round(Math.min(sigmas, RAMP_END) * 4);
  return (steps[step] ??= ramp(step / 4));
}

/** Half a mark's size on the screen: smaller where the plate is. */
export function markSize(state, toScreen) {
  return Math.round(Math.min(Math.max((toScreen(state.width, 0)[0] - toScreen(0, 0)[0]) / 190, 2.2), 5) * 4) / 4;
}
