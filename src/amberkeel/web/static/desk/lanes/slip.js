// Measured slip by frame: that of all places, and of the chosen one.
import { INK } from "../shell/colour.js";

export function drawSlip(lanes, c, x, top, room) {
  const { measured, world, attempt } = lanes.store.state;
  const own = measured?.places.find((place) => place.number === world.place);
  const all = measured?.by_frame ?? [];
  const single = own?.slip.map((s) => (s ? Math.hypot(...s) : null)) ?? [];
  const most = d3.max([...all, ...single].filter((v) => v != null)) ?? 0;
  const y = d3.scaleLinear([0, Math.max(0.2, most) * 1.1], [top + room - 3, top + 14]);
  lanes.title(c, top, "Slip", "", y, room, true);
  if (!measured?.places.length) return lanes.empty(c, top, room, attempt ? "when slip is measured" : "after a solve");
  for (const [values, colour, width] of [
    [all, INK.verdigris, 2],
    [single, INK.amber, 1.5],
  ]) {
    const points = values.map((v, k) => [x(measured.frames[k]), v == null ? null : y(v)]).filter(([, v]) => v != null);
    lanes.curve(c, points, colour, width);
  }
  c.fillStyle = INK.muted;
  c.font = "11px Barlow";
  c.fillText(`px RMS over places${own ? "; amber: the chosen place" : ""}`, x.range()[0] + 40, top + 13);
  return null;
}
