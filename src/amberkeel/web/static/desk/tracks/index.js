// Tracks and an attempt's errors in columns, with the look-ups that drawing needs.

/** Index tracks by frame: which samples lie on each. */
export function indexTracks(data, first, last) {
  const count = last - first + 1;
  const track = new Int32Array(data.frames.length);
  const sizes = new Int32Array(count);
  for (let t = 0; t < data.ids.length; t += 1) {
    for (let s = data.first[t]; s < data.first[t + 1]; s += 1) {
      track[s] = t;
      sizes[data.frames[s] - first] += 1;
    }
  }
  const samples = Array.from(sizes, (n) => new Int32Array(n));
  const at = new Int32Array(count);
  for (let s = 0; s < data.frames.length; s += 1) {
    const k = data.frames[s] - first;
    samples[k][at[k]++] = s;
  }
  const row = new Map(data.ids.map((id, t) => [id, t]));
  return { ...data, track, samples, live: sizes, row, origin: first };
}

/** Index an attempt's errors by track id: frame to [dx, dy, in sigmas, set aside]. */
export function indexAttempt(data) {
  const errors = new Map();
  for (let n = 0; n < data.track.length; n += 1) {
    let own = errors.get(data.track[n]);
    if (!own) errors.set(data.track[n], (own = new Map()));
    const size = Math.hypot(data.dx[n], data.dy[n]);
    own.set(data.frame[n], [data.dx[n], data.dy[n], size / data.sigma[n], data.aside[n]]);
  }
  const rms = new Map(data.track_ids.map((id, k) => [id, data.track_rms[k]]));
  return { ...data, errors, rms, depth: depthSigmas(data.world) };
}

/** The attempt in another world. */
export function inWorld(attempt, data) {
  return { ...attempt, ...data, depth: depthSigmas(data.world) };
}

/** One sigma of each track's depth along its ray from the first camera, as a share of it; unknown ones are left out. */
function depthSigmas({ frames, points }) {
  const [cx, cy, cz] = frames[0].position;
  const known = points.filter((p) => p.sigma_along !== null && p.sigma_along !== undefined);
  return new Map(known.map((p) => [p.id, p.sigma_along / Math.hypot(p.xyz[0] - cx, p.xyz[1] - cy, p.xyz[2] - cz)]));
}

/** How a track stands: its own state, or what the attempt made of it. */
export function standing(tracks, t, attempt) {
  const own = tracks.states[t];
  return own === "active" && attempt ? (attempt.states[tracks.ids[t]] ?? own) : own;
}
