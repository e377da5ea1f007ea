// What the benches of the ties stage share: lengths as they write them, and which body is chosen.

/** A small length: millimetres where the unit is metres. */
export function lengthOf(value, unit) {
  if (unit !== "m") return `${value.toPrecision(2)} units`;
  return Math.abs(value) < 1 ? `${(1000 * value).toFixed(1)} mm` : `${value.toFixed(2)} m`;
}

/** The same without its unit, for rows under a head that says it. */
export const figureOf = (value, unit) => (unit === "m" ? (1000 * value).toFixed(1) : value.toPrecision(2));

/** The unit of those figures. */
export const unitOf = (unit) => (unit === "m" ? "mm" : "units");

/** The body of a key among others; the first where none is chosen. */
export const bodyOf = (bodies, key) => bodies.find((one) => one.key === key) ?? bodies[0];
