// What the lines tell, as figures: the lens, the horizon, and where the camera stands.
import { element, facts } from "../shell/dom.js";

const find = (selector) => document.querySelector(selector);

/** What is told and needs nothing done: a further coefficient that the lines do without, and k1 by hand. */
const CALM = /^(k[23]|p1 and p2) held at 0: with it|^k1 is turned by hand/;

/** Rows of the lens: name, value with sigma, unit. */
export function foundRows(fit) {
  if (!fit) return [];
  const rows = [
    [
      "Focal length",
      fit.focal_known ? `${fit.focal_mm.toFixed(2)} ±${fit.focal_sigma_mm.toFixed(2)}` : "not told",
      fit.focal_known ? "mm" : "",
    ],
  ];
  for (const [name, [value, sigma]] of Object.entries(fit.values))
    rows.push([name, `${value.toFixed(4)} ±${sigma.toFixed(4)}`]);
  if (fit.roll !== undefined) {
    rows.push(["Roll, tilt", `${fit.roll.toFixed(2)}, ${fit.tilt.toFixed(2)} ±${fit.angle_sigma.toFixed(2)}`, "°"]);
  }
  return rows;
}

/** Rows of the camera's position over the origin. */
export function placeRows(fit) {
  const { place } = fit ?? {};
  if (!place?.xyz) return [];
  const value = (v, s) => `${v.toFixed(2)} ±${s < 0.005 ? "0.01" : s.toFixed(2)}`;
  return [
    ["Camera's height", value(place.xyz[1], place.sigma[1]), "m"],
    ["From the origin", value(place.distance, place.distance_sigma), "m"],
  ];
}

/** Write figures anew where their rows stand already: while something is dragged nothing is laid out. */
export function rewriteFigures(fit) {
  for (const [box, rows] of [
    ["#lensfound", foundRows(fit)],
    ["#lensplace", placeRows(fit)],
  ]) {
    const boxes = find(box).querySelectorAll("dd");
    if (!fit || boxes.length < rows.length) continue;
    rows.forEach(([, text], k) => {
      if (boxes[k].firstChild.data !== text) boxes[k].firstChild.data = text;
    });
  }
}

/** Notes, figures, and the measured line. */
export function drawFound(lens, width) {
  const { fit, trouble, hand } = lens;
  const notes = [
    ...(trouble ? [trouble] : []),
    ...(fit?.notes ?? []),
    ...(fit?.place?.trouble ? [fit.place.trouble] : []),
  ];
  if (hand) notes.unshift(`k1 is turned by hand: ${hand.toFixed(4)}.`);
  find("#lensnotes").replaceChildren(
    ...notes.map((text) => element("p", `say my-1${CALM.test(text) ? " calm" : ""}`, text)),
  );
  facts(find("#lensfound"), [...foundRows(fit), ...centreRow(fit, width)]);
  find('[data-act="lens-use"]').disabled = !fit || (!fit.focal_known && !Object.keys(fit.values).length);
  const measurable = Object.entries(lens.lines).filter(([, l]) => l.axis && (!l.set || l.set.every(Boolean)));
  // A line that is chosen before its length is typed stays chosen.
  const chosen = lens.measured?.line ?? find("#measureline").value;
  find("#measureline").replaceChildren(
    new Option("measured line…", ""),
    ...measurable.map(([name]) => new Option(name, name, false, name === chosen)),
  );
  find("#measure").hidden = fit?.roll === undefined;
  facts(find("#lensplace"), placeRows(fit));
  const { xyz, sigma } = fit?.place ?? {};
  find("#lensplace").title = xyz
    ? `X, Y, Z: ${xyz.map((v, k) => `${v.toFixed(3)} ±${sigma[k].toFixed(3)}`).join(", ")} m`
    : "";
}

function centreRow(fit, width) {
  if (!fit?.centre) return [];
  const [[x, y], [sx, sy]] = fit.centre;
  const off = Math.hypot(x / sx, y / sy);
  if (Math.max(sx, sy) >= 0.1 * width) return [];
  return [
    [
      "Optical centre",
      off > 3 ? `off by ${x.toFixed(0)}, ${y.toFixed(0)}` : "agrees",
      off > 3 ? "px" : `(±${Math.max(sx, sy).toFixed(0)} px)`,
    ],
  ];
}
