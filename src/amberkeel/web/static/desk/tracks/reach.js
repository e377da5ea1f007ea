// How far the tracks are from a camera: how many there must be, and on which frames some lack.
import { counted } from "../shell/words.js";

/** Tracks of a shot from which a camera that moves is solved: nothing known, the focal length, all of its lens. */
const NEEDED = [8, 7, 6];

/** Points of known coordinates that tell it by themselves, the focal length unknown or known. */
const SURVEYED = [6, 4];

/** Tracks of a frame that carry the camera there. */
export const CARRY = 5;

/** Tracks from which nobody needs to count any more. */
const PLENTY = 40;

/** How many active tracks there are on each frame. */
function activeOn(tracks) {
  const live = new Int32Array(tracks.live.length);
  for (let s = 0; s < tracks.frames.length; s += 1) {
    if (tracks.states[tracks.track[s]] === "active") live[tracks.frames[s] - tracks.origin] += 1;
  }
  return live;
}

/** Runs of frames that too few tracks carry: [first, last, the fewest there]. */
export function lacking(live, origin, least = CARRY) {
  const out = [];
  live.forEach((n, k) => {
    if (n >= least) return;
    const run = out.at(-1);
    if (run?.[1] === origin + k - 1) {
      run[1] += 1;
      run[2] = Math.min(run[2], n);
    } else out.push([origin + k, origin + k, n]);
  });
  return out;
}

/** How much of the lens is known: 0 nothing, 1 the focal length, 2 its distortion as well. */
export function lensKnown(focal, distortion) {
  return focal !== "known" ? 0 : distortion === "estimate" ? 1 : 2;
}

/** The active tracks whose coordinates are known, all three of them. */
function surveyed(tracks, constraints) {
  const stated = (row) => row.kind === "anchor" && row.on && !row.xyz.includes(null);
  const known = new Set(constraints.filter(stated).map((row) => row.track));
  return tracks.ids.filter((id, t) => known.has(id) && tracks.states[t] === "active").length;
}

/**
 * Whether a solve can be asked for, and what is to be placed before or so that it reaches all frames.
 * `known` is how much of the lens is, `constraints` what is known of the set.
 */
export function reach(tracks, known = 0, constraints = []) {
  const count = tracks.states.filter((state) => state === "active").length;
  if (count >= PLENTY) return "";
  const points = surveyed(tracks, constraints);
  if (points >= SURVEYED[Math.min(known, 1)]) return `${counted(points, "known point")}: enough for a camera.`;
  if (count < NEEDED[known]) {
    const more = points ? `, or ${points} of ${SURVEYED[Math.min(known, 1)]} known points` : "";
    return `${count} of ${NEEDED[known]} for a camera${more}.`;
  }
  const runs = lacking(activeOn(tracks), tracks.origin);
  const said = `${counted(count, "track")}: enough for a camera`;
  if (!runs.length) return `${said} on all frames.`;
  const [first, last, fewest] = runs.reduce((a, b) => (b[1] - b[0] > a[1] - a[0] ? b : a));
  const where = first === last ? `Frame ${first} lacks` : `Frames ${first}–${last} lack`;
  const others = runs.length - 1;
  const more = others > 1 ? `; so do ${others} other stretches` : others ? "; so does another stretch" : "";
  return `${said}. ${where} ${CARRY - fewest}${more}.`;
}
