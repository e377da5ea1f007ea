// Cameras of the other shots of a set in 3D: their paths, and a small pyramid now and then.
import * as THREE from "three";
import { SHOT_LOOKS } from "../ties/seen.js";

/** Pyramids along a path. */
const SHOWN = 5;

/** Length of a pyramid over the scene's reach. */
const SIZE = 0.05;

/** Return the cameras of shots as one group. */
export function shotsGroup(shots, reach) {
  const group = new THREE.Group();
  shots.forEach((shot, k) => {
    const { colour } = SHOT_LOOKS[k % SHOT_LOOKS.length];
    const path = new THREE.BufferGeometry().setFromPoints(shot.positions.map((p) => new THREE.Vector3(...p)));
    group.add(new THREE.Line(path, new THREE.LineBasicMaterial({ color: colour })));
    const lines = [];
    const step = Math.max(1, Math.floor((shot.positions.length - 1) / (SHOWN - 1)));
    for (let row = 0; row < shot.positions.length; row += step) lines.push(...pyramid(shot, row, SIZE * reach));
    const edges = new THREE.BufferGeometry().setFromPoints(lines);
    group.add(new THREE.LineSegments(edges, new THREE.LineBasicMaterial({ color: colour })));
  });
  return group;
}

function pyramid(shot, row, size) {
  const tip = new THREE.Vector3(...shot.positions[row]);
  const turn = shot.turns[row];
  const wide = 0.5 / shot.focal;
  const high = wide * shot.aspect;
  const corners = [
    [-wide, -high],
    [wide, -high],
    [wide, high],
    [-wide, high],
  ].map(([x, y]) => {
    const ray = [x, y, 1].map((v) => v * size);
    return new THREE.Vector3(...turn.map((line) => line[0] * ray[0] + line[1] * ray[1] + line[2] * ray[2])).add(tip);
  });
  return corners.flatMap((corner, k) => [tip, corner, corner, corners[(k + 1) % 4]]);
}
