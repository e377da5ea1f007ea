// Cameras of the other shots of a set in 3D: their paths, a small pyramid now and then, and a filled one where each
// stands as many frames after its first as the playhead is after this shot's.
import * as THREE from "three";
import { SHOT_LOOKS } from "../ties/seen.js";

/** Pyramids along a path. */
const SHOWN = 5;

/** Length of a pyramid over the scene's reach, and of the one at the playhead. */
const SIZE = 0.05;
const NOW_SIZE = 0.11;

/** Return the cameras of shots as one group. */
export function shotsGroup(shots, reach) {
  const group = new THREE.Group();
  shots.forEach((shot, k) => {
    const { colour } = SHOT_LOOKS[k % SHOT_LOOKS.length];
    const path = new THREE.BufferGeometry().setFromPoints(shot.positions.map((p) => new THREE.Vector3(...p)));
    group.add(new THREE.Line(path, new THREE.LineBasicMaterial({ color: colour })));
    const lines = [];
    const step = Math.max(1, Math.floor((shot.positions.length - 1) / (SHOWN - 1)));
    for (let row = 0; row < shot.positions.length; row += step)
      lines.push(...edgesOf(...pyramid(shot, shot.turns[row], shot.positions[row], SIZE * reach)));
    const edges = new THREE.BufferGeometry().setFromPoints(lines);
    group.add(new THREE.LineSegments(edges, new THREE.LineBasicMaterial({ color: colour })));
    group.add(standing(shot, colour, NOW_SIZE * reach));
  });
  return group;
}

/** Put the cameras of shots where they stand some frames after the first of each; past their end they are hidden. */
export function placeShots(group, count) {
  for (const camera of group.children) {
    if (!camera.isGroup) continue;
    const { turns, positions } = camera.userData;
    camera.visible = count >= 0 && count < positions.length;
    if (!camera.visible) continue;
    const [[a, b, c], [d, e, f], [g, h, i]] = turns[count];
    const [x, y, z] = positions[count];
    camera.matrix.set(a, b, c, x, d, e, f, y, g, h, i, z, 0, 0, 0, 1);
    camera.matrixWorldNeedsUpdate = true;
  }
}

/** A camera at the origin with its picture as a pale pane, to be placed. */
function standing(shot, colour, size) {
  const [tip, corners] = pyramid(shot, UPRIGHT, [0, 0, 0], size);
  const camera = new THREE.Group();
  const edges = new THREE.BufferGeometry().setFromPoints(edgesOf(tip, corners));
  camera.add(new THREE.LineSegments(edges, new THREE.LineBasicMaterial({ color: colour })));
  const [a, b, c, d] = corners;
  const pane = new THREE.BufferGeometry().setFromPoints([a, b, c, a, c, d]);
  const pale = { color: colour, transparent: true, opacity: 0.35, side: THREE.DoubleSide, depthWrite: false };
  camera.add(new THREE.Mesh(pane, new THREE.MeshBasicMaterial(pale)));
  camera.matrixAutoUpdate = false;
  camera.userData = shot;
  return camera;
}

const UPRIGHT = [
  [1, 0, 0],
  [0, 1, 0],
  [0, 0, 1],
];

/** Tip and the four corners of the picture of a camera with a turn (world from camera) at a place. */
function pyramid(shot, turn, place, size) {
  const tip = new THREE.Vector3(...place);
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
  return [tip, corners];
}

function edgesOf(tip, corners) {
  return corners.flatMap((corner, k) => [tip, corner, corner, corners[(k + 1) % 4]]);
}
