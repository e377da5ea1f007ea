// Lengths as figures with as many digits as help.

/** A length with three or four digits that count. */
export function figureOf(value) {
  const size = Math.abs(value);
  if (size >= 100) return value.toFixed(0);
  if (size >= 10) return value.toFixed(1);
  if (size >= 1) return value.toFixed(2);
  return size === 0 ? "0" : value.toPrecision(2);
}

/** A small length: millimetres where the scene has a scale, else its own units. */
export function smallOf(value, scaled) {
  return scaled ? [(value * 1000).toFixed(Math.abs(value) < 0.01 ? 1 : 0), "mm"] : [figureOf(value), "units"];
}
