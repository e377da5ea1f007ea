// What stands in the scene, drawn over the plate through its lens; a canvas of its own above the plate's.
import * as THREE from "three";
import { INK } from "../shell/colour.js";
import { geometryOf, lightFrom } from "../world/solids.js";
import { aim, sharedUniforms, throughLens } from "./lens_shader.js";
import { matrixOf } from "./space_solids.js";

/** Look of each kind of thing: colour, and that of the other squares of a checker. */
const TINTS = {
  proxies: { colour: INK.verdigris, other: "#173b3a" },
  probes: { colour: "#e3ddcf", other: "#3b4650" },
  chosen: { colour: INK.amber, other: "#4a3313" },
};

const GHOST = 0.28;

export class Overglass {
  constructor(canvas, store) {
    this.canvas = canvas;
    this.store = store;
    this.renderer = null;
    this.shared = sharedUniforms();
    this.scene = new THREE.Scene();
    this.eye = new THREE.Camera();
    this.drawn = null;
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
    aim(this.shared, this.camera.world, camera, view, this.reach);
    this.shared.light.value.copy(lightFrom(state.solids?.light ?? [35, 50]));
    this.renderer.render(this.scene, this.eye);
  }

  /** What the drawn objects depend on, so that they are built anew only then. */
  key() {
    const { solids, world } = this.store.state;
    return [solids, world.chosen, world.draft, world.onPoints, world.ghost, this.camera];
  }

  build() {
    const { solids, world } = this.store.state;
    const key = this.key();
    if (this.drawn && key.every((part, k) => part === this.drawn.parts[k])) return;
    this.drawn = { parts: key };
    for (const child of [...this.scene.children]) {
      this.scene.remove(child);
      child.material?.dispose();
    }
    this.reach = reachOf(this.camera.world);
    for (const one of solids?.things.values() ?? []) if (one.thing.shown !== false) this.add(one, world);
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
    const moved = world.ghost?.id === one.id ? matrixOf(world.ghost) : null;
    if (look === "picture" && one.picture) {
      this.put(new THREE.Mesh(one.sheet, throughLens(this.shared, { ...tint, picture: one.picture.map })), moved);
    } else if (!one.empty && look !== "wire") {
      const squares = look === "checker" ? 8 : 0;
      const shading = look === "checker" && one.thing.kind === "card" ? 0 : 1;
      this.put(
        new THREE.Mesh(one.sheet, throughLens(this.shared, { ...tint, squares, shading, opacity: squares ? 0.86 : 1 })),
        moved,
      );
      if (one.part === "probes" && one.thing.kind !== "card") this.addShadow(one, moved);
    }
    if (look === "wire" || chosen || one.empty) {
      const colour = chosen ? INK.amber : tint.colour;
      this.put(new THREE.LineSegments(one.wire, throughLens(this.shared, { colour, nearer: 0.002 })), moved);
    }
  }

  /** A thing's shadow on the level that it stands on. */
  addShadow(one, moved) {
    const material = throughLens(this.shared, { colour: "#05080a", opacity: 0.42, nearer: 0.0006 });
    const light = lightFrom(this.store.state.solids.light);
    const foot = new THREE.Vector3(...(one.thing.position ?? [0, 0, 0])).applyMatrix4(moved ?? new THREE.Matrix4()).y;
    material.uniforms.flatten.value.set(light.x, light.y, light.z, foot);
    // A shadow's faces lie upon each other: each pixel is darkened once.
    material.depthWrite = false;
    material.stencilWrite = true;
    material.stencilFunc = THREE.NotEqualStencilFunc;
    material.stencilRef = 1;
    material.stencilZPass = THREE.ReplaceStencilOp;
    const shadow = new THREE.Mesh(one.sheet, material);
    shadow.renderOrder = -1;
    this.put(shadow, moved);
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

/** The attempt's camera on a frame. */
export function cameraAt(attempt, frame) {
  attempt.cameras ??= new Map(attempt.world.frames.map((f) => [f.frame, f]));
  return attempt.cameras.get(frame);
}

function reachOf(world) {
  if (!world.points.length) return Math.max(Math.abs(world.frames[0].position[1]), 0.1) * 4;
  const [x, y, z] = world.frames[0].position;
  const far = world.points.map((p) => Math.hypot(p.xyz[0] - x, p.xyz[1] - y, p.xyz[2] - z)).sort((a, b) => a - b);
  return far[Math.floor(far.length * 0.6)] || 1;
}
