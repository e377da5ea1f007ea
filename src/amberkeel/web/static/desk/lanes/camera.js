// The camera's curves in the upper lane, each about its own middle, with a band of one sigma.
import { INK } from "../shell/colour.js";

const KINDS = {
  position: { names: ["x", "y", "z"], unit: "units, ± σ" },
  turn: { names: ["pan", "tilt", "roll"], unit: "degrees, ± σ" },
};
const COLOURS = [INK.amber, INK.verdigris, INK.sail];
const DASHES = [[], [6, 3], [2, 3]];

/** Draw a kind of curves of the camera; `lanes` gives title, empty and curve. */
export function drawCamera(lanes, c, x, top, room) {
  const { sure, lane, attempt } = lanes.store.state;
  const { names, unit } = KINDS[lane];
  const curves = (sure?.curves ?? []).filter((k) => names.includes(k.name)).map(aboutMiddle);
  const all = curves.flatMap((k) => k.values.flatMap((v, i) => [v - (k.sigma?.[i] ?? 0), v + (k.sigma?.[i] ?? 0)]));
  const y = d3.scaleLinear(d3.extent(all.length ? all : [0, 1]), [top + room - 5, top + 6]);
  lanes.title(c, top, "Camera", "", y, room, true);
  c.fillStyle = INK.muted;
  c.font = "11px Barlow";
  c.fillText(unit, 10, top + 56);
  if (!curves.length) return lanes.empty(c, top, room, attempt ? "in a moment" : "after a solve");
  curves.forEach((curve, k) => {
    band(c, curve, sure.frames, x, y, COLOURS[k]);
    c.setLineDash(DASHES[k]);
    lanes.curve(
      c,
      curve.values.map((v, i) => [x(sure.frames[i]), y(v)]),
      COLOURS[k],
      1.5,
    );
    c.setLineDash([]);
  });
  names.forEach((name, k) => {
    c.fillStyle = COLOURS[k];
    c.font = "11px 'JetBrains Mono'";
    c.fillText(name, 10 + 27 * k, top + 70);
  });
  return null;
}

function aboutMiddle(curve) {
  const middle = (d3.min(curve.values) + d3.max(curve.values)) / 2;
  return { ...curve, values: curve.values.map((v) => v - middle) };
}

function band(c, { values, sigma }, frames, x, y, colour) {
  if (!sigma) return;
  c.beginPath();
  values.forEach((v, i) => c.lineTo(x(frames[i]), y(v + sigma[i])));
  for (let i = values.length - 1; i >= 0; i -= 1) c.lineTo(x(frames[i]), y(values[i] - sigma[i]));
  c.closePath();
  c.globalAlpha = 0.25;
  c.fillStyle = colour;
  c.fill();
  c.globalAlpha = 1;
}
