// From where the 3D scene is looked at: with or without perspective, square from a side, about the selection.
import * as THREE from "three";

/** Where the eye stands for each square view, and what is up there. */
const SQUARE = {
  front: [
    [0, 0, 1],
    [0, 1, 0],
  ],
  side: [
    [1, 0, 0],
    [0, 1, 0],
  ],
  above: [
    [0, 1, 0],
    [0, 0, -1],
  ],
};

/** Room about what is framed, over its own size. */
const ROOM = 1.25;

/** Middle and radius of what is selected, or of all that is shown but the furthest. */
export function framed(scene) {
  const { selection } = scene.store.state;
  const chosen = scene.shown.filter((p) => selection.has(p.id));
  const points = (chosen.length ? chosen : scene.shown).map((p) => new THREE.Vector3(...p.xyz));
  if (!points.length) return { middle: new THREE.Vector3(), radius: scene.reach };
  const axis = (k) => d3.median(points, (p) => p.getComponent(k));
  const middle = new THREE.Vector3(axis(0), axis(1), axis(2));
  const away = points.map((p) => p.distanceTo(middle)).sort((a, b) => a - b);
  return { middle, radius: Math.max(away[Math.floor(0.9 * (away.length - 1))], 0.02 * scene.reach) };
}

/** Look square from a side at what is selected, or at all. */
export function lookFrom(scene, name) {
  const [from, up] = SQUARE[name];
  const { middle, radius } = framed(scene);
  scene.eye.up.set(...up);
  place(scene, new THREE.Vector3(...from), middle, radius);
  scene.eye.up.set(0, 1, 0);
}

/** Bring what is selected into the middle, from where it is looked at now; the view orbits about it then. */
export function frameSelection(scene) {
  const { middle, radius } = framed(scene);
  place(scene, scene.eye.position.clone().sub(scene.orbit.target).normalize(), middle, radius);
}

function place(scene, from, middle, radius) {
  const { eye, orbit } = scene;
  const far = (ROOM * radius) / Math.tan(THREE.MathUtils.degToRad(45 / 2));
  orbit.target.copy(middle);
  eye.position.copy(middle).addScaledVector(from, far);
  eye.lookAt(middle);
  orbit.update();
  scene.redraw();
}

/** An eye without perspective that sees what one with it does about the point it looks at, or the other way round. */
export function flattened(scene, flat) {
  const { eye, orbit, canvas } = scene;
  const far = eye.position.distanceTo(orbit.target);
  const half = far * Math.tan(THREE.MathUtils.degToRad(45 / 2));
  const aspect = canvas.clientWidth / Math.max(canvas.clientHeight, 1);
  const next = flat
    ? new THREE.OrthographicCamera(-half * aspect, half * aspect, half, -half, -far * 20, far * 40)
    : new THREE.PerspectiveCamera(45, aspect, scene.reach * 0.005, scene.reach * 200);
  next.position.copy(eye.position);
  next.quaternion.copy(eye.quaternion);
  if (!flat && eye.isOrthographicCamera) {
    const seen = (eye.top - eye.bottom) / eye.zoom / 2;
    const away = seen / Math.tan(THREE.MathUtils.degToRad(45 / 2));
    next.position.copy(orbit.target).addScaledVector(eye.position.clone().sub(orbit.target).normalize(), away);
  }
  return next;
}
