// What fixes the scene's coordinates, as facts.
import { facts, find } from "../shell/dom.js";

/** Draw the datum that the server keeps, with what the attempt says of it. */
export function drawDatum(server, attempt) {
  const d = server.datum ?? {};
  const frames = Object.keys(d.axes?.rotations ?? {});
  const { placed } = server;
  facts(find("#datumfacts"), [
    ["Axes", frames.length ? `from lines on ${frames.join(", ")}` : "first camera"],
    ["Ground", d.ground ? `${d.ground.length} tracks` : frames.length ? "level of the lines" : "not set"],
    ...(d.ground && attempt?.ground_rms != null
      ? [
          [
            "Points off the ground",
            (attempt.ground_rms * (d.scale ? 1000 : 1)).toFixed(d.scale ? 1 : 4),
            d.scale ? "mm RMS" : "units RMS",
          ],
        ]
      : []),
    ["Origin", d.origin ? "1 track" : placed ? "as the lines place it" : "not set"],
    ["Scale", d.scale ? `${d.scale.typed} ${d.scale.unit}` : placed ? "measured line" : "not set"],
  ]);
  find("#axesnote").hidden = !(d.axes?.place && !placed);
}
