// The solved scene in 3D: points, the camera's path, and its frustum with the plate on it.

import { OrbitControls } from "orbit";
import * as THREE from "three";
import { INK } from "../shell/colour.js";
import { pinholeOf } from "./pinhole.js";
import { bodiesGroup, placeBodies } from "./space_bodies.js";
import { SpacePick } from "./space_pick.js";
import { colourOf, isShown } from "./space_points.js";
import { placeShots, shotsGroup } from "./space_shots.js";
import { letGo, placedBy, solidsGroup } from "./space_solids.js";
import { flattened } from "./space_views.js";

/** Half length at which an ellipsoid is cut, over the scene's reach. */
const LONGEST = 0.12;

export class Scene {
  constructor(canvas, store, frames) {
    this.canvas = canvas;
    this.store = store;
    this.frames = frames;
    this.renderer = new THREE.WebGLRenderer({ canvas, antialias: true });
    this.renderer.setClearColor(INK.hull);
    this.scene = new THREE.Scene();
    this.eye = new THREE.PerspectiveCamera(45, 1, 0.01, 5000);
    this.orbit = new OrbitControls(this.eye, canvas);
    this.orbit.addEventListener("change", () => this.redraw());
    this.solved = new THREE.PerspectiveCamera();
    this.solved.matrixAutoUpdate = false;
    this.contents = new THREE.Group();
    this.scene.add(this.contents);
    this.through = false;
    this.pending = false;
    this.glass = canvas.parentElement.querySelector("#spaceglass");
    this.solids = new THREE.Group();
    new ResizeObserver(() => this.redraw()).observe(canvas);
    this.picking = new SpacePick(this);
    /** Drawn over the scene and asked first by the pointer, where the page gives some. */
    this.handles = null;
  }

  /** Look with perspective, or without. */
  setFlat(flat) {
    this.eye = flattened(this, flat);
    this.orbit.object = this.eye;
    this.orbit.update();
    this.redraw();
  }

  /** Show what stands in the scene anew. */
  setSolids() {
    letGo(this.solids);
    this.scene.remove(this.solids);
    this.solids = solidsGroup(this.store.state);
    this.scene.add(this.solids);
    this.redraw();
  }

  /** Show which thing is chosen, where that is another than before. */
  setChosen() {
    const { chosen } = this.store.state.world;
    if (chosen === this.chosen) return;
    this.chosen = chosen;
    this.setSolids();
  }

  /** Show the thing that is dragged where it is dragged to. */
  setGhost() {
    const { ghost } = this.store.state.world;
    if (!ghost && !this.ghosted) return;
    this.ghosted = Boolean(ghost);
    for (const one of this.solids.children) if (one.isMesh || one.isLine) placedBy(one, ghost);
    this.redraw();
  }

  /** Show other points, or in other colours. */
  setPoints() {
    if (!this.attempt) return;
    for (const old of [this.points, this.halo]) {
      this.contents.remove(old);
      old?.geometry.dispose();
      old?.material.dispose();
    }
    this.addPoints();
    this.select();
  }

  /** Build everything that belongs to an attempt. */
  load(attempt) {
    this.attempt = attempt;
    for (const child of [...this.contents.children]) {
      this.contents.remove(child);
      child.geometry?.dispose();
      child.material?.dispose();
    }
    if (!attempt) return this.redraw();
    const { world } = attempt;
    this.cameras = new Map(world.frames.map((f) => [f.frame, f]));
    this.reach = sceneReach(world);
    this.addPoints();
    const path = new THREE.BufferGeometry().setFromPoints(world.frames.map((f) => new THREE.Vector3(...f.position)));
    this.path = new THREE.Line(path, new THREE.LineBasicMaterial({ color: INK.amber }));
    this.contents.add(this.path);
    this.marks = new THREE.Points(
      path.clone(),
      new THREE.PointsMaterial({ color: INK.amber, size: 3, sizeAttenuation: false }),
    );
    this.contents.add(this.marks);
    if (this.store.state.hasGround) {
      const cell = 10 ** Math.round(Math.log10(this.reach / 10));
      const grid = new THREE.GridHelper(cell * 40, 40, INK.muted, INK.line);
      this.contents.add(grid);
    }
    this.addFrustum();
    this.ellipsoids = null;
    this.other = null;
    this.home();
    return null;
  }

  addPoints() {
    const { state } = this.store;
    const shown = this.attempt.world.points.filter((p) => isShown(p, state));
    this.shown = shown;
    const positions = new Float32Array(shown.flatMap((p) => p.xyz));
    const colours = new Float32Array(shown.flatMap((p) => colourOf(p, state, this.reach).toArray()));
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(positions, 3));
    geometry.setAttribute("color", new THREE.BufferAttribute(colours, 3));
    this.points = new THREE.Points(
      geometry,
      new THREE.PointsMaterial({ size: 4, sizeAttenuation: false, vertexColors: true }),
    );
    this.points.frustumCulled = false;
    this.contents.add(this.points);
    this.halo = new THREE.Points(
      new THREE.BufferGeometry(),
      new THREE.PointsMaterial({
        size: 11,
        sizeAttenuation: false,
        color: INK.amber,
        transparent: true,
        opacity: 0.85,
      }),
    );
    this.halo.frustumCulled = false;
    this.contents.add(this.halo);
  }

  /** Show one sigma of each point as an ellipsoid, enlarged so that the usual one can be seen, or hide them. */
  setSigmas() {
    const { sure, sigmas } = this.store.state;
    this.factor = 0;
    if (this.ellipsoids) {
      this.contents.remove(this.ellipsoids);
      this.ellipsoids.dispose();
      this.ellipsoids = null;
    }
    const own = sigmas && this.attempt && sure ? this.shown.filter((p) => sure.points[p.id]) : [];
    if (own.length) this.addEllipsoids(own, sure.points);
    this.redraw();
  }

  /** Lay the path that a trial came to over the one before it, or take it away. */
  setOther(paths) {
    if (!this.attempt) return;
    if (this.other) {
      if (!paths) this.home();
      this.contents.remove(this.other);
      this.other.geometry.dispose();
      this.other.material.dispose();
      this.other = null;
    }
    for (const drawn of [this.path, this.marks]) drawn.material.color.set(paths ? INK.muted : INK.amber);
    if (paths) {
      const after = paths.after.map((p) => new THREE.Vector3(...p));
      this.other = new THREE.Line(
        new THREE.BufferGeometry().setFromPoints(after),
        new THREE.LineBasicMaterial({ color: INK.amber }),
      );
      // Seen through what lies before it: the two differ by little.
      this.other.material.depthTest = false;
      this.other.renderOrder = 1;
      this.contents.add(this.other);
      this.besidePath(paths);
    }
    this.redraw();
  }

  /** Show the cameras of other shots of the same world, each in its own look. */
  setShots(shots) {
    if (this.shots) {
      this.scene.remove(this.shots);
      letGo(this.shots);
    }
    this.shots = shotsGroup(shots ?? [], this.reach ?? 1);
    this.scene.add(this.shots);
    this.redraw();
  }

  /** Show the shot's bodies, where they are on the frame. */
  setBodies(bodies) {
    if (this.bodies) {
      this.scene.remove(this.bodies);
      letGo(this.bodies);
    }
    this.bodies = bodiesGroup(bodies ?? []);
    this.scene.add(this.bodies);
    this.redraw();
  }

  /** Look from above and behind at the cameras of all shots, and at what they see. */
  wholeSet() {
    if (!this.attempt) return;
    const box = new THREE.Box3().setFromObject(this.shots).expandByObject(this.path);
    const seen = medianPlace(this.attempt.world.points);
    const middle = box.expandByPoint(seen).getCenter(new THREE.Vector3());
    const size = box.getSize(new THREE.Vector3()).length() || 1;
    const back = middle.clone().sub(seen).setY(0).normalize();
    this.eye.position
      .copy(middle)
      .addScaledVector(back, 1.1 * size)
      .add(new THREE.Vector3(0, 0.7 * size, 0));
    this.orbit.target.copy(middle);
    this.orbit.update();
    this.redraw();
  }

  /** Look at the path from its side and a little above. */
  besidePath({ before, after }) {
    const box = new THREE.Box3().setFromPoints([...before, ...after].map((p) => new THREE.Vector3(...p)));
    const [middle, size] = [box.getCenter(new THREE.Vector3()), box.getSize(new THREE.Vector3()).length() || 1];
    const along = new THREE.Vector3(...before.at(-1)).sub(new THREE.Vector3(...before[0])).setY(0);
    const side =
      along.lengthSq() > 1e-12 ? new THREE.Vector3(-along.z, 0, along.x).normalize() : new THREE.Vector3(0, 0, 1);
    this.eye.position
      .copy(middle)
      .addScaledVector(side, 1.15 * size)
      .add(new THREE.Vector3(0, 0.35 * size, 0));
    this.orbit.target.copy(middle);
    this.orbit.update();
  }

  addEllipsoids(points, roots) {
    const longest = (m) => Math.max(...[0, 1, 2].map((k) => Math.hypot(m[k], m[3 + k], m[6 + k])));
    const usual = d3.median(points, (p) => longest(roots[p.id])) || 1;
    this.factor = 10 ** Math.round(Math.log10((0.012 * this.reach) / usual));
    const material = new THREE.MeshBasicMaterial({
      color: INK.verdigris,
      wireframe: true,
      transparent: true,
      opacity: 0.28,
    });
    this.ellipsoids = new THREE.InstancedMesh(new THREE.SphereGeometry(1, 10, 6), material, points.length);
    this.ellipsoids.frustumCulled = false;
    points.forEach((p, k) => {
      // What is longer than a part of the scene only says that its depth is open: it is cut there.
      const gain = Math.min(this.factor, (LONGEST * this.reach) / longest(roots[p.id]));
      const m = roots[p.id].map((v) => v * gain);
      const [x, y, z] = p.xyz;
      this.ellipsoids.setMatrixAt(
        k,
        new THREE.Matrix4().set(m[0], m[1], m[2], x, m[3], m[4], m[5], y, m[6], m[7], m[8], z, 0, 0, 0, 1),
      );
    });
    this.contents.add(this.ellipsoids);
  }

  addFrustum() {
    this.card = new THREE.Mesh(
      new THREE.BufferGeometry(),
      new THREE.MeshBasicMaterial({ side: THREE.DoubleSide, transparent: true, opacity: 0.92 }),
    );
    this.edges = new THREE.LineSegments(new THREE.BufferGeometry(), new THREE.LineBasicMaterial({ color: INK.sail }));
    this.contents.add(this.card, this.edges);
  }

  /** Put the frustum and its picture where the camera is on this frame. */
  placeFrustum() {
    const camera = this.cameras?.get(this.store.state.frame);
    if (!camera) return;
    const { width, height } = this.attempt.world.image;
    const seen = pinholeOf(this.attempt.world, camera);
    const depth = this.reach * (this.through ? 3 : 0.12);
    const at = (x, y) => {
      const q = [((x - seen.cx) / seen.fx) * depth, ((y - seen.cy) / seen.fy) * depth, depth];
      return camera.position.map((c, i) => c + q.reduce((sum, v, j) => sum + camera.world_from_camera[i][j] * v, 0));
    };
    const corners = [at(0, 0), at(width, 0), at(width, height), at(0, height)];
    const plane = new THREE.BufferGeometry();
    plane.setAttribute("position", new THREE.BufferAttribute(new Float32Array(corners.flat()), 3));
    plane.setAttribute("uv", new THREE.BufferAttribute(new Float32Array([0, 1, 1, 1, 1, 0, 0, 0]), 2));
    plane.setIndex([0, 1, 2, 0, 2, 3]);
    this.card.geometry.dispose();
    this.card.geometry = plane;
    const lines = corners.flatMap((c, k) => [c, corners[(k + 1) % 4], c, camera.position]);
    this.edges.geometry.dispose();
    this.edges.geometry = new THREE.BufferGeometry().setFromPoints(lines.map((p) => new THREE.Vector3(...p)));
    this.edges.visible = !this.through;
    this.paint();
    this.aim(camera, seen, width, height);
  }

  paint() {
    const picture = this.frames.want(this.store.state.frame);
    if (!picture || picture === this.painted) return;
    this.painted = picture;
    this.easel ??= new OffscreenCanvas(picture.width, picture.height);
    [this.easel.width, this.easel.height] = [picture.width, picture.height];
    this.easel.getContext("2d").drawImage(picture, 0, 0);
    this.card.material.map?.dispose();
    const map = new THREE.CanvasTexture(this.easel);
    map.colorSpace = THREE.SRGBColorSpace;
    this.card.material.map = map;
    this.card.material.needsUpdate = true;
  }

  aim(camera, { fx, fy, cx, cy }, width, height) {
    const r = camera.world_from_camera;
    const m = new THREE.Matrix4().set(
      r[0][0],
      -r[0][1],
      -r[0][2],
      camera.position[0],
      r[1][0],
      -r[1][1],
      -r[1][2],
      camera.position[1],
      r[2][0],
      -r[2][1],
      -r[2][2],
      camera.position[2],
      0,
      0,
      0,
      1,
    );
    this.solved.matrix.copy(m);
    const pane = this.canvas.clientWidth / this.canvas.clientHeight;
    const plate = width / fx / (height / fy);
    const tall = (height / fy) * Math.max(1, plate / pane);
    this.solved.fov = THREE.MathUtils.radToDeg(2 * Math.atan(tall / 2));
    this.solved.aspect = pane;
    this.solved.near = this.reach * 0.002;
    this.solved.far = this.reach * 100;
    this.solved.updateProjectionMatrix();
    // The plate's middle stands in the pane's middle, wherever the optical axis meets the plate.
    const m4 = this.solved.projectionMatrix.elements;
    m4[8] = (m4[0] * (width / 2 - cx)) / fx;
    m4[9] = (-m4[5] * (height / 2 - cy)) / fy;
    this.solved.projectionMatrixInverse.copy(this.solved.projectionMatrix).invert();
    this.solved.updateMatrixWorld(true);
  }

  setThrough(on) {
    this.through = on;
    this.orbit.enabled = !on;
    this.redraw();
  }

  /** Look at the whole scene from above and behind the camera. */
  home() {
    if (!this.attempt) return;
    const { frames, points } = this.attempt.world;
    const start = new THREE.Vector3(...frames[0].position);
    const middle = medianPlace(points);
    const back = start
      .clone()
      .sub(middle)
      .setY(0)
      .normalize()
      .multiplyScalar(this.reach * 0.75);
    this.eye.position
      .copy(start)
      .add(back)
      .add(new THREE.Vector3(this.reach * 0.55, this.reach * 0.6, 0));
    if (!this.eye.isOrthographicCamera) [this.eye.near, this.eye.far] = [this.reach * 0.005, this.reach * 200];
    this.orbit.target.copy(middle);
    this.orbit.update();
    this.redraw();
  }

  /** Mark the selected tracks' points. */
  select() {
    if (!this.points) return;
    const { selection, world } = this.store.state;
    const marked = (p) => selection.has(p.id) || p.id === world.hover?.id;
    const positions = this.shown.filter(marked).flatMap((p) => p.xyz);
    this.halo.geometry.dispose();
    this.halo.geometry = new THREE.BufferGeometry();
    this.halo.geometry.setAttribute("position", new THREE.BufferAttribute(new Float32Array(positions), 3));
    this.redraw();
  }

  redraw() {
    if (this.pending || this.canvas.parentElement.hidden) return;
    this.pending = true;
    requestAnimationFrame(() => {
      this.pending = false;
      this.draw();
    });
  }

  draw() {
    const [width, height] = [this.canvas.clientWidth, this.canvas.clientHeight];
    if (!width || !height) return;
    this.renderer.setPixelRatio(devicePixelRatio || 1);
    this.renderer.setSize(width, height, false);
    if (this.eye.isOrthographicCamera) {
      const half = ((this.eye.top - this.eye.bottom) / 2) * (width / height);
      [this.eye.left, this.eye.right] = [-half, half];
    } else this.eye.aspect = width / height;
    this.eye.updateProjectionMatrix();
    this.placeFrustum();
    if (this.bodies) placeBodies(this.bodies, this.store.state.frame);
    if (this.shots) placeShots(this.shots, this.store.state.frame - this.store.state.first);
    this.renderer.render(this.scene, this.through ? this.solved : this.eye);
    this.picking.draw();
  }
}

function sceneReach(world) {
  const [x, y, z] = world.frames[0].position;
  const far = world.points.map((p) => Math.hypot(p.xyz[0] - x, p.xyz[1] - y, p.xyz[2] - z)).sort((a, b) => a - b);
  return far[Math.floor(far.length * 0.6)] || 1;
}

function medianPlace(points) {
  return new THREE.Vector3(...[0, 1, 2].map((k) => d3.median(points, (p) => p.xyz[k])));
}
