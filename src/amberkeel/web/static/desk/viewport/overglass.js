// What stands in the scene, drawn over the plate through its lens; a canvas of its own above the plate's.
import * as THREE from "three";
import { INK } from "../shell/colour.js";
import { geometryOf, LIGHT, lightFrom } from "../world/solids.js";
import { Lender } from "./lender.js";
import { aim, sharedUniforms, throughLens } from "./lens_shader.js";
import { Masked } from "./masked.js";
import { ShadowMap } from "./shadow_map.js";
import { matrixOf } from "./space_solids.js";

/** Look of each kind of thing: colour, and that of the other squares of a checker. */
const TINTS = {
  proxies: { colour: INK.verdigris, other: "#173b3a" },
  probes: { colour: "#e3ddcf", other: "#3b4650" },
  chosen: { colour: INK.amber, other: "#4a3313" },
};

const GHOST = 0.28;

/** By which share of its depth an edge is drawn nearer than its face, and a hiding face farther. */
const NEARER = 0.002;
const FARTHER = -0.002;

/** How far a shadow reaches over the level, in sizes of what casts it. */
const SHADOW_REACH = 8;

const DOWN = new THREE.Vector3(0, -1, 0);
const BOTH = new THREE.MeshBasicMaterial({ side: THREE.DoubleSide });

export class Overglass {
  /** `frames` keeps the plate's pictures; `redraw` is called when something has come. */
  constructor(canvas, store, { shot, frames, redraw }) {
    this.canvas = canvas;
    this.frames = frames;
    this.store = store;
    this.renderer = null;
    this.shared = sharedUniforms();
    this.scene = new THREE.Scene();
    this.eye = new THREE.Camera();
    this.drawn = null;
    this.shadows = new ShadowMap(this.shared);
    this.masked = new Masked(shot, redraw);
    this.lender = new Lender(this.shared);
  }

  /** The attempt, or what drawn lines tell of the camera before any. */
  get camera() {
    return this.store.state.attempt ?? this.store.state.before;
  }

  /** Whether there is anything to draw on this frame. */
  get wanted() {
    const { solids, world, held, stage, layers } = this.store.state;
    if (held || !this.camera || ["lens", "masks"].includes(stage)) return false;
    if (!layers.scene && stage !== "world") return false;
    return Boolean(solids?.things.size || world.draft?.solid || world.onPoints);
  }

  draw(view) {
    const { state } = this.store;
    const camera = this.wanted && cameraAt(this.camera, state.frame);
    this.canvas.hidden = !camera;
    if (!camera) return;
    this.renderer ??= new THREE.WebGLRenderer({ canvas: this.canvas, antialias: true, alpha: true, stencil: true });
    this.build();
    this.renderer.setPixelRatio(devicePixelRatio || 1);
    this.renderer.setSize(view.width, view.height, false);
    this.lend();
    aim(this.shared, this.camera.world, camera, view, this.reach);
    this.shared.light.value.copy(lightFrom(state.solids?.light ?? LIGHT));
    this.shadows.draw(this.renderer, this.shared.light.value);
    this.mask();
    this.renderer.render(this.scene, this.eye);
  }

  /** Throw the picture of the frame that lends it onto the proxies. */
  lend() {
    const { solids, world } = this.store.state;
    const camera = world.lent && cameraAt(this.camera, world.lent);
    const picture = camera && this.frames.want(world.lent);
    if (!picture) return;
    const sheets = [...solids.things.values()].filter(receives).map((one) => one.sheet);
    this.lender.lend(this.renderer, { world: this.camera.world, camera, picture, sheets, reach: this.reach });
  }

  /** Let what is masked on this frame hide paintings and shadows, where that is wanted. */
  mask() {
    const { server, frame } = this.store.state;
    const map = server?.scene?.behind ? this.masked.want(frame, server.masks_stamp) : null;
    this.shared.behind.value = map ? 1 : 0;
    this.shared.masked.value = map ?? null;
  }

  /** What the drawn objects depend on, so that they are built anew only then. */
  key() {
    const { solids, world } = this.store.state;
    return [solids, world.chosen, world.draft, world.onPoints, world.ghost, world.lent, this.camera];
  }

  build() {
    const { solids, world } = this.store.state;
    const key = this.key();
    if (this.drawn && key.every((part, k) => part === this.drawn.parts[k])) return;
    this.drawn = { parts: key };
    for (const child of [...this.scene.children]) {
      this.scene.remove(child);
      child.material?.dispose();
      if (child.userData.ownSheet) child.geometry.dispose();
    }
    this.reach = reachOf(this.camera.world);
    const shown = [...(solids?.things.values() ?? [])].filter((one) => one.thing.shown !== false);
    for (const one of shown) this.add(one, world);
    this.castShadows(shown, world);
    if (world.draft?.solid) this.addDraft(world.draft.solid);
    if (world.onPoints && solids?.spindle) this.addSpindles(solids.spindle, world.onPoints, this.camera);
  }

  /** The id of the thing of a part that lies under a point of the screen and nearest to the camera, or null. */
  hit([x, y], part) {
    const { frame, solids } = this.store.state;
    const camera = this.camera && cameraAt(this.camera, frame);
    if (!camera || !this.canvas.clientWidth) return null;
    // What is drawn is asked: each thing alone, in a colour of its own, onto one pixel.
    const ids = [...(solids?.things.values() ?? [])].filter((one) => one.part === part && one.thing.shown !== false);
    return ids.length ? this.ask(ids, x, y) : null;
  }

  ask(ones, x, y) {
    this.asked ??= new THREE.WebGLRenderTarget(1, 1);
    const scene = new THREE.Scene();
    ones.forEach((one, k) => {
      const material = throughLens(this.shared, { colour: "#000000" });
      material.uniforms.colour.value.setRGB(0, 0, (k + 1) / 255);
      const object = one.empty ? new THREE.LineSegments(one.wire, material) : new THREE.Mesh(one.sheet, material);
      object.frustumCulled = false;
      scene.add(object);
    });
    const screen = this.shared.screen.value.clone();
    const [width, height] = [this.canvas.clientWidth, this.canvas.clientHeight];
    const [nx, ny] = [(2 * x) / width - 1, 1 - (2 * y) / height];
    // The pixel's middle becomes the target's, and a few pixels about it fill it.
    const [gx, gy] = [width / 3, height / 3];
    this.shared.screen.value.set(screen.x * gx, (screen.y - nx) * gx, screen.z * gy, (screen.w - ny) * gy);
    this.renderer.setRenderTarget(this.asked);
    this.renderer.setClearColor(0x000000, 0);
    this.renderer.clear();
    this.renderer.render(scene, this.eye);
    const out = new Uint8Array(4);
    this.renderer.readRenderTargetPixels(this.asked, 0, 0, 1, 1, out);
    this.renderer.setRenderTarget(null);
    this.shared.screen.value.copy(screen);
    for (const child of scene.children) child.material.dispose();
    return ones[out[2] - 1]?.id ?? null;
  }

  add(one, world) {
    const chosen = one.id === world.chosen;
    const look = one.thing.look ?? (one.part === "probes" ? "solid" : "wire");
    const tint = one.part === "proxies" && chosen ? TINTS.chosen : TINTS[one.part];
    const moved = movedOf(one, world);
    const { shared } = this;
    if (world.lent && receives(one)) {
      this.put(new THREE.Mesh(one.sheet, throughLens(shared, { ...tint, lending: 1 })), moved);
    } else if (look === "picture" && one.picture) {
      this.put(new THREE.Mesh(one.sheet, throughLens(shared, { ...tint, picture: one.picture.map })), moved);
    } else if (!one.empty && look !== "wire") {
      const squares = look === "checker" ? 8 : 0;
      const shading = look === "checker" && one.thing.kind === "card" ? 0 : 1;
      const opacity = squares ? 0.86 : 1;
      this.put(new THREE.Mesh(one.sheet, throughLens(shared, { ...tint, squares, shading, opacity })), moved);
    } else if (!one.empty) this.hideBehind(one, moved);
    const pictured = world.lent && receives(one);
    if ((look === "wire" && !pictured) || chosen || one.empty)
      this.addWire(one, chosen ? INK.amber : tint.colour, moved);
  }

  /** Let a thing that is drawn as lines hide what stands behind it. */
  hideBehind(one, moved) {
    const material = throughLens(this.shared, { colour: INK.hull, nearer: FARTHER });
    material.colorWrite = false;
    const sheet = new THREE.Mesh(one.sheet, material);
    sheet.renderOrder = -2;
    this.put(sheet, moved);
  }

  /** A thing's edges; those behind something are faint. */
  addWire(one, colour, moved) {
    for (const hidden of [false, true]) {
      const material = throughLens(this.shared, { colour, nearer: NEARER, opacity: hidden ? 0.3 : 1 });
      if (hidden) material.depthFunc = THREE.GreaterDepth;
      material.depthWrite = false;
      const wire = new THREE.LineSegments(one.wire, material);
      wire.renderOrder = 2;
      this.put(wire, moved);
    }
  }

  /** The shadows of test objects, on proxies and on the level that they stand on. */
  castShadows(shown, world) {
    const solid = (one) => one.part === "probes" && one.thing.kind !== "card" && !one.empty;
    const casting = shown.filter((one) => solid(one) && one.thing.look !== "wire");
    this.shadows.take(casting.map((one) => ({ sheet: one.sheet, moved: movedOf(one, world) })));
    if (!casting.length) return;
    const proxies = shown.filter((one) => one.part === "proxies" && !one.empty);
    for (const one of proxies) this.catchShadow(one.sheet, movedOf(one, world));
    for (const one of casting) {
      const foot = new THREE.Vector3(...(one.thing.position ?? [0, 0, 0]));
      const moved = movedOf(one, world);
      if (moved) foot.applyMatrix4(moved);
      one.sheet.computeBoundingSphere();
      const height = one.sheet.boundingSphere.radius;
      if (this.standsOn(proxies, foot, height)) continue;
      // A sheet made for this alone: it goes with its object.
      this.catchShadow(levelAbout(foot, SHADOW_REACH * height), null).userData.ownSheet = true;
    }
  }

  /** Whether a foot stands on one of the proxies. */
  standsOn(proxies, foot, height) {
    const ray = new THREE.Raycaster(foot.clone().add(new THREE.Vector3(0, 0.05 * height, 0)), DOWN, 0, 0.1 * height);
    return proxies.some((one) => ray.intersectObject(new THREE.Mesh(one.sheet, BOTH), false).length > 0);
  }

  catchShadow(sheet, moved) {
    const material = throughLens(this.shared, { colour: "#05080a", opacity: 0.5, nearer: 0.0006, catching: 1 });
    // Surfaces lie upon each other: each pixel is darkened once.
    material.depthWrite = false;
    material.stencilWrite = true;
    material.stencilFunc = THREE.NotEqualStencilFunc;
    material.stencilRef = 1;
    material.stencilZPass = THREE.ReplaceStencilOp;
    const shadow = new THREE.Mesh(sheet, material);
    shadow.renderOrder = 1;
    this.put(shadow, moved);
    return shadow;
  }

  addDraft(solid) {
    const { sheet, wire, empty } = geometryOf(solid);
    if (!empty) this.put(new THREE.Mesh(sheet, throughLens(this.shared, { colour: INK.amber, opacity: GHOST })));
    this.put(new THREE.LineSegments(wire, throughLens(this.shared, { colour: INK.amber, nearer: 0.002 })));
  }

  /** The same small solid on every point: near ones look large, far ones small. */
  addSpindles({ sheet }, size, attempt) {
    const points = attempt.world.points.filter((p) => p.state !== "excluded");
    const material = throughLens(this.shared, { colour: INK.verdigris, shading: 1 });
    const mesh = new THREE.InstancedMesh(sheet, material, points.length);
    const at = new THREE.Matrix4();
    points.forEach((p, k) => {
      at.makeScale(size, size, size).setPosition(...p.xyz);
      mesh.setMatrixAt(k, at);
    });
    // What stands there hides none of them.
    mesh.renderOrder = -3;
    this.put(mesh);
  }

  put(object, moved = null) {
    object.frustumCulled = false;
    if (moved) {
      object.matrixAutoUpdate = false;
      object.matrix.copy(moved);
    }
    this.scene.add(object);
  }
}

/** Whether a thing takes the picture of a frame that lends it. */
function receives(one) {
  return one.part === "proxies" && !one.empty && one.thing.shown !== false;
}

/** Where a thing is dragged to, as a matrix, or null. */
function movedOf(one, world) {
  return world.ghost?.id === one.id ? matrixOf(world.ghost) : null;
}

/** A square of the level about a spot. */
function levelAbout(foot, half) {
  const sheet = new THREE.PlaneGeometry(2 * half, 2 * half, 12, 12).rotateX(-Math.PI / 2);
  return sheet.translate(foot.x, foot.y, foot.z);
}

/** By world, its cameras by frame. */
const cameras = new WeakMap();

/** The attempt's camera on a frame. */
export function cameraAt(attempt, frame) {
  const { world } = attempt;
  // Another datum is another world of the same attempt.
  if (!cameras.has(world)) cameras.set(world, new Map(world.frames.map((f) => [f.frame, f])));
  return cameras.get(world).get(frame);
}

/** By world, how far from the first camera its usual points lie. */
const reaches = new WeakMap();

/** How far from the first camera a world's usual points lie. */
export function reachOf(world) {
  if (!reaches.has(world)) reaches.set(world, usualReach(world));
  return reaches.get(world);
}

function usualReach(world) {
  if (!world.points.length) return Math.max(Math.abs(world.frames[0].position[1]), 0.1) * 4;
  const [x, y, z] = world.frames[0].position;
  const far = world.points.map((p) => Math.hypot(p.xyz[0] - x, p.xyz[1] - y, p.xyz[2] - z)).sort((a, b) => a - b);
  return far[Math.floor(far.length * 0.6)] || 1;
}
