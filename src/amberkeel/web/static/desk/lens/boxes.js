// The box set onto the picture by its corners. It is kept as its twelve edges, which are axis lines like any other.
import { INK } from "../shell/colour.js";

/** Corners of a box by number: where each lies, and whether it was dragged. */
export function cornersOf(lines, box) {
  const corners = [];
  for (const line of Object.values(lines)) {
    if (line.box === box)
      line.ends.forEach((k, e) => {
        corners[k] = { point: line.points[e], set: line.set[e] };
      });
  }
  return corners;
}

/** The lines of a box with some corners elsewhere; `positions` is by corner number, and `fix` marks them as dragged. */
export function withCorners(lines, box, positions, fix) {
  const changed = {};
  for (const [name, line] of Object.entries(lines)) {
    if (line.box !== box) continue;
    const points = line.points.map((p, e) => positions[line.ends[e]] ?? p);
    const set = line.set.map((s, e) => s || (fix && Boolean(positions[line.ends[e]])));
    changed[name] = { ...line, points, set };
  }
  return changed;
}

/** Corners that were not dragged go where the answer puts them. */
export function followed(lines, boxes) {
  let out = lines;
  for (const [box, positions] of Object.entries(boxes ?? {})) {
    const free = {};
    cornersOf(lines, box).forEach((corner, k) => {
      if (!corner.set) free[k] = positions[k];
    });
    out = { ...out, ...withCorners(out, box, free, false) };
  }
  return out;
}

/** Names of the boxes among lines, with how many corners of each were dragged. */
export function boxesOf(lines) {
  const names = [
    ...new Set(
      Object.values(lines)
        .map((line) => line.box)
        .filter(Boolean),
    ),
  ];
  return names.map((name) => [
    name,
    cornersOf(lines, name).filter((c) => c?.set).length,
    Object.values(lines).find((l) => l.box === name).frame,
  ]);
}

/** Edges that do not count yet, dashed, and a ring on every corner that is still to be dragged. */
export function drawBoxes(c, lines, frame, chosen, toScreen) {
  c.lineWidth = 1.25;
  for (const line of Object.values(lines)) {
    if (!line.box || line.frame !== frame || line.set.every(Boolean)) continue;
    c.strokeStyle = chosen && lines[chosen]?.box === line.box ? INK.amber : "#ebe5d8aa";
    c.setLineDash([3, 5]);
    c.beginPath();
    line.points.forEach((p, k) => (k ? c.lineTo(...toScreen(...p)) : c.moveTo(...toScreen(...p))));
    c.stroke();
  }
  c.setLineDash([]);
  for (const [box, , on] of boxesOf(lines)) {
    if (on !== frame) continue;
    for (const corner of cornersOf(lines, box)) {
      if (!corner || corner.set) continue;
      c.beginPath();
      c.arc(...toScreen(...corner.point), 5.5, 0, 2 * Math.PI);
      c.fillStyle = "#10161cb0";
      c.fill();
      c.strokeStyle = INK.sail;
      c.lineWidth = 1.5;
      c.stroke();
    }
  }
}
