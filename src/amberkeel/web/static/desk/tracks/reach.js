// How far the tracks are from a camera: how many there must be, and on which frames some lack.
import { counted } from "../shell/words.js";

/** Tracks of a shot from which a camera that moves is solved, and those of a frame that carry it there. */
const NEEDED = 8;
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

/** Whether a solve can be asked for, and what is to be placed before or so that it reaches all frames. */
export function reach(tracks) {
  const count = tracks.states.filter((state) => state === "active").length;
  if (count >= PLENTY) return "";
  if (count < NEEDED) return `${count} of ${NEEDED} for a camera.`;
  const runs = lacking(activeOn(tracks), tracks.origin);
  const said = `${counted(count, "track")}: enough for a camera`;
  if (!runs.length) return `${said} on all frames.`;
  const [first, last, fewest] = runs.reduce((a, b) => (b[1] - b[0] > a[1] - a[0] ? b : a));
  const where = first === last ? `Frame ${first} lacks` : `Frames ${first}–${last} lack`;
  const others = runs.length - 1;
  const more = others > 1 ? `; so do ${others} other stretches` : others ? "; so does another stretch" : "";
  return `${said}. ${where} ${CARRY - fewest}${more}.`;
}
