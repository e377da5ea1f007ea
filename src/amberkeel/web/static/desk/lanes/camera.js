// The camera's curves in the upper lane, each over its own range, with a band of one sigma enlarged so that it shows.
import { INK } from "../shell/colour.js";

const KINDS = {
  position: { names: ["x", "y", "z"], unit: "units" },
  turn: { names: ["pan", "tilt", "roll"], unit: "degrees" },
  travel: { names: ["along", "across", "up"], unit: "units" },
};
const COLOURS = [INK.amber, INK.verdigris, INK.sail];
const DASHES = [[], [6, 3], [2, 3]];

/** Share of the lane that the widest band takes, about. */
const BAND_SHARE = 0.2;

/** Draw a kind of curves of the camera; `lanes` gives title, empty and curve. */
export function drawCamera(lanes, c, x, top, room) {
  const { sure, lane, attempt } = lanes.store.state;
  const { names, unit } = KINDS[lane];
  const curves = (sure?.curves ?? []).filter((k) => names.includes(k.name)).map(overItsRange);
  lanes.title(c, top, "Camera", "", d3.scaleLinear([0, 0], [0, 0]), room, true);
  if (!curves.length) return lanes.empty(c, top, room, attempt ? "in a moment" : "after a solve");
  const y = d3.scaleLinear([-1, 1], [top + room - 7, top + 20]);
  const widest = d3.max(curves, (k) => d3.max(k.sigma ?? [0])) || 0;
  const gain = widest > 0 ? 10 ** Math.max(0, Math.round(Math.log10(BAND_SHARE / widest))) : 0;
  curves.forEach((curve, k) => {
    band(c, curve, gain, sure.frames, x, y, COLOURS[k]);
    c.setLineDash(DASHES[k]);
    lanes.curve(
      c,
      curve.values.map((v, i) => [x(sure.frames[i]), y(v)]),
      COLOURS[k],
      1.5,
    );
    c.setLineDash([]);
  });
  spikes(c, sure.spikes ?? [], x, top + room - 4);
  legend(c, curves, gain, unit, x.range()[0] + 6, top + 14);
  return null;
}

/** A curve from -1 to 1 over its own range, its sigma in the same unit. */
function overItsRange(curve) {
  const [low, high] = d3.extent(curve.values);
  const half = (high - low) / 2 || 1;
  const values = curve.values.map((v) => (v - (low + high) / 2) / half);
  return { name: curve.name, range: high - low, values, sigma: curve.sigma?.map((s) => s / half) };
}

function band(c, { values, sigma }, gain, frames, x, y, colour) {
  if (!sigma) return;
  c.beginPath();
  values.forEach((v, i) => c.lineTo(x(frames[i]), y(v + gain * sigma[i])));
  for (let i = values.length - 1; i >= 0; i -= 1) c.lineTo(x(frames[i]), y(values[i] - gain * sigma[i]));
  c.closePath();
  c.globalAlpha = 0.25;
  c.fillStyle = colour;
  c.fill();
  c.globalAlpha = 1;
}

function legend(c, curves, gain, unit, left, base) {
  c.font = "11px 'JetBrains Mono'";
  let at = left;
  curves.forEach(({ name, range }, k) => {
    c.fillStyle = COLOURS[k];
    const text = `${name} over ${range.toPrecision(3)}`;
    c.fillText(text, at, base);
    at += c.measureText(text).width + 16;
  });
  c.fillStyle = INK.muted;
  c.fillText(`${unit}${gain ? ` · band: 1 σ ×${gain}` : ""}`, at, base);
}

/** Frames on which the path leaves the way that its neighbours tell, as pointers with how many sigmas. */
function spikes(c, found, x, base) {
  c.fillStyle = INK.orchid;
  c.font = "10.5px 'JetBrains Mono'";
  for (const { frame, sigmas } of found) {
    c.beginPath();
    c.moveTo(x(frame), base - 8);
    c.lineTo(x(frame) + 4, base);
    c.lineTo(x(frame) - 4, base);
    c.fill();
    if (sigmas > 6) c.fillText(`${Math.round(sigmas)}σ`, x(frame) + 6, base);
  }
}
