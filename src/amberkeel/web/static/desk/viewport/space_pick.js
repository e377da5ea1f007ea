// Selecting points in 3D: by a click, with a box or a lasso, from any side; Shift adds, Ctrl takes away.
import * as THREE from "three";
import { within } from "./within.js";

const NEAR_PX = 12;
const STILL_PX = 4;

export class SpacePick {
  constructor(scene) {
    this.scene = scene;
    this.path = null;
    const { canvas } = scene;
    canvas.addEventListener("pointerdown", (e) => this.down(e));
    canvas.addEventListener("pointermove", (e) => this.move(e));
    canvas.addEventListener("pointerup", (e) => this.up(e));
  }

  get tool() {
    return this.scene.store.state.tool;
  }

  down(event) {
    if (event.button !== 0) return;
    this.path = [[event.offsetX, event.offsetY]];
    // With a box or a lasso the left button selects; the right one orbits then.
    this.scene.orbit.enabled = this.tool === "pick" && !this.scene.through;
    if (this.tool !== "pick") this.scene.canvas.setPointerCapture(event.pointerId);
  }

  move(event) {
    if (!this.path) return;
    this.path.push([event.offsetX, event.offsetY]);
    if (this.tool !== "pick") this.draw();
  }

  up(event) {
    const path = this.path;
    this.path = null;
    this.scene.orbit.enabled = !this.scene.through;
    this.draw();
    if (!path || !this.scene.points) return;
    const small = path.every(([x, y]) => Math.hypot(x - path[0][0], y - path[0][1]) < STILL_PX);
    if (!small && this.tool === "pick") return;
    if (event.altKey) return this.spot(path[0]);
    const found = small ? this.nearest(path[0]) : this.inside(this.tool === "box" ? cornersOf(path) : path);
    const { store } = this.scene;
    const { tracks, selection } = store.state;
    const away = event.ctrlKey || event.metaKey;
    const next = new Set(event.shiftKey || away ? selection : []);
    for (const id of found) {
      if (away) next.delete(id);
      else if (tracks.row.has(id)) next.add(id);
    }
    store.set({ selection: next });
  }

  /** Pick a spot of what stands in the scene. */
  spot([x, y]) {
    const { canvas, through, solved, eye, solids, store } = this.scene;
    const ray = new THREE.Raycaster();
    const at = new THREE.Vector2((2 * x) / canvas.clientWidth - 1, 1 - (2 * y) / canvas.clientHeight);
    ray.setFromCamera(at, through ? solved : eye);
    const [hit] = ray.intersectObjects(
      solids.children.filter((one) => one.isMesh),
      false,
    );
    store.set({ world: { ...store.state.world, picked: hit ? hit.point.toArray() : null } });
    return null;
  }

  /** Points with where they lie on the screen. */
  *onScreen() {
    const { canvas, shown, through, solved, eye } = this.scene;
    const camera = through ? solved : eye;
    const v = new THREE.Vector3();
    for (const p of shown) {
      v.set(...p.xyz).project(camera);
      if (v.z > 1 || v.z < -1) continue;
      yield [p.id, ((v.x + 1) / 2) * canvas.clientWidth, ((1 - v.y) / 2) * canvas.clientHeight];
    }
  }

  nearest([x, y]) {
    let best = NEAR_PX;
    let found = [];
    for (const [id, px, py] of this.onScreen()) {
      const d = Math.hypot(px - x, py - y);
      if (d < best) [best, found] = [d, [id]];
    }
    return found;
  }

  inside(outline) {
    const out = [];
    for (const [id, x, y] of this.onScreen()) if (within(outline, x, y)) out.push(id);
    return out;
  }

  /** What is drawn over the 3D view: the handles, and the outline that is being drawn. */
  draw() {
    const { glass, canvas, handles } = this.scene;
    const ratio = devicePixelRatio || 1;
    [glass.width, glass.height] = [canvas.clientWidth * ratio, canvas.clientHeight * ratio];
    const c = glass.getContext("2d");
    c.scale(ratio, ratio);
    handles?.draw(c);
    if (!this.path || this.tool === "pick") return;
    c.beginPath();
    for (const p of this.tool === "box" ? cornersOf(this.path) : this.path) c.lineTo(...p);
    c.closePath();
    c.fillStyle = "#f2a33a1f";
    c.fill();
    c.strokeStyle = "#f2a33a";
    c.lineWidth = 1.5;
    c.setLineDash([5, 4]);
    c.stroke();
  }
}

function cornersOf(path) {
  const [[ax, ay], [bx, by]] = [path[0], path.at(-1)];
  return [
    [ax, ay],
    [bx, ay],
    [bx, by],
    [ax, by],
  ];
}
