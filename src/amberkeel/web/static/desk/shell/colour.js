// One ramp for residuals, in units of a track's own expected noise.
const STOPS = [
  [0, [79, 179, 165]],
  [1.5, [235, 229, 216]],
  [3, [242, 163, 58]],
  [5, [213, 85, 154]],
];
export const RAMP_END = 5;

/** Colour of a residual of `sigmas` times the expected noise. */
export function ramp(sigmas) {
  const value = Math.min(Math.max(sigmas, 0), RAMP_END);
  const k = STOPS.findIndex(([stop]) => stop >= value);
  if (k <= 0) return `rgb(${STOPS[0][1]})`;
  const [a, low] = STOPS[k - 1];
  const [b, high] = STOPS[k];
  const share = (value - a) / (b - a);
  return `rgb(${low.map((v, c) => Math.round(v + share * (high[c] - v)))})`;
}

export const INK = {
  hull: "#10161c",
  panel: "#18212a",
  line: "#2b3844",
  sail: "#ebe5d8",
  muted: "#93a1ab",
  amber: "#f2a33a",
  verdigris: "#4fb3a5",
  orchid: "#d5559a",
};
