// What stands in the scene, in the 3D view.
import * as THREE from "three";
import { INK } from "../shell/colour.js";

const TINTS = { proxies: INK.verdigris, probes: "#e3ddcf" };

/** Objects for all that stands in the scene, in a group. */
export function solidsGroup({ solids, world }) {
  const group = new THREE.Group();
  if (!solids) return group;
  group.add(new THREE.HemisphereLight(0xffffff, 0x303840, 2.2));
  const sun = new THREE.DirectionalLight(0xffffff, 1.6);
  sun.position.set(0.4, 0.9, 0.45);
  group.add(sun);
  for (const one of solids.things.values()) if (one.thing.shown !== false) add(group, one, one.id === world.chosen);
  return group;
}

function add(group, one, chosen) {
  const look = one.thing.look ?? (one.part === "probes" ? "solid" : "wire");
  const colour = chosen ? INK.amber : TINTS[one.part];
  if (!one.empty) {
    const pictured = look === "picture" && one.picture;
    const material = pictured
      ? new THREE.MeshBasicMaterial({ map: lit(one.picture.map), side: THREE.DoubleSide, alphaTest: 0.5 })
      : new THREE.MeshLambertMaterial({
          color: colour,
          side: THREE.DoubleSide,
          transparent: look === "wire",
          opacity: look === "wire" ? 0.1 : 1,
          depthWrite: look !== "wire",
        });
    group.add(named(new THREE.Mesh(one.sheet, material), one));
  }
  if (look === "wire" || chosen || one.empty) {
    group.add(named(new THREE.LineSegments(one.wire, new THREE.LineBasicMaterial({ color: colour })), one));
  }
}

function named(object, { id }) {
  object.name = id;
  object.matrixAutoUpdate = false;
  return object;
}

/** Put an object where a ghost of its thing is dragged to, or else where its thing stands. */
export function placedBy(object, ghost) {
  object.matrix.copy(ghost?.id === object.name ? matrixOf(ghost) : new THREE.Matrix4());
  object.matrixWorldNeedsUpdate = true;
}

/** A ghost as a matrix: it is moved by a way, or turned and scaled too. */
export function matrixOf({ by, matrix }) {
  return matrix ?? new THREE.Matrix4().makeTranslation(...by);
}

/** A texture as light: the plate's own shader takes it as code values. */
function lit(map) {
  const own = map.clone();
  own.colorSpace = THREE.SRGBColorSpace;
  return own;
}

/** Let go of a group's materials; its geometry is shared. */
export function letGo(group) {
  for (const child of group.children) {
    child.material?.map?.dispose();
    child.material?.dispose();
  }
}
