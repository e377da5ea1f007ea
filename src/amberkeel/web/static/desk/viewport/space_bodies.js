// Bodies in 3D: their paths, and their points and probe boxes on the frame.
import * as THREE from "three";
import { INK } from "../shell/colour.js";

/** Return the paths of bodies as one group, and their points, which `placeBodies` puts where they are on a frame. */
export function bodiesGroup(bodies) {
  const group = new THREE.Group();
  for (const one of bodies) {
    if (!one.positions) continue;
    const path = new THREE.BufferGeometry().setFromPoints(one.positions.map((p) => new THREE.Vector3(...p)));
    group.add(new THREE.Line(path, new THREE.LineBasicMaterial({ color: INK.orchid })));
    const spots = new THREE.BufferGeometry().setFromPoints(one.points.map((p) => new THREE.Vector3(...p)));
    const points = new THREE.Points(
      spots,
      new THREE.PointsMaterial({ size: 4, sizeAttenuation: false, color: INK.orchid }),
    );
    points.matrixAutoUpdate = false;
    points.frustumCulled = false;
    points.userData = one;
    const box = new THREE.BufferGeometry().setFromPoints((one.box ?? []).flat().map((p) => new THREE.Vector3(...p)));
    points.add(new THREE.LineSegments(box, new THREE.LineBasicMaterial({ color: INK.sail })));
    group.add(points);
  }
  return group;
}

/** Put the points of bodies where they are on a frame; those that are not there are hidden. */
export function placeBodies(group, frame) {
  for (const points of group.children) {
    if (!points.isPoints) continue;
    const { frames, turns, positions } = points.userData;
    const at = frames.indexOf(frame);
    points.visible = at >= 0;
    if (at < 0) continue;
    const [[a, b, c], [d, e, f], [g, h, i]] = turns[at];
    const [x, y, z] = positions[at];
    points.matrix.set(a, b, c, x, d, e, f, y, g, h, i, z, 0, 0, 0, 1);
    points.matrixWorldNeedsUpdate = true;
  }
}
