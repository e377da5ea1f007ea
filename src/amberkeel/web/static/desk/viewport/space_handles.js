// The handles in the 3D view: they take the pointer before orbiting and selecting do.
import * as THREE from "three";

export class SpaceHandles {
  constructor(scene, handles) {
    Object.assign(this, { scene, handles });
    const pane = scene.canvas.parentElement;
    pane.addEventListener("pointerdown", (e) => this.down(e), { capture: true });
    pane.addEventListener("pointermove", (e) => this.move(e), { capture: true });
    pane.addEventListener("pointerup", (e) => this.up(e), { capture: true });
  }

  /** From the world to the canvas, null behind the eye. */
  project = (xyz) => {
    const { canvas, through, solved, eye } = this.scene;
    const v = new THREE.Vector3(...xyz).project(through ? solved : eye);
    if (v.z > 1 || v.z < -1) return null;
    return [((v.x + 1) / 2) * canvas.clientWidth, ((1 - v.y) / 2) * canvas.clientHeight];
  };

  at(event) {
    const box = this.scene.canvas.getBoundingClientRect();
    return [event.clientX - box.left, event.clientY - box.top];
  }

  down(event) {
    if (event.button !== 0 || event.target !== this.scene.canvas) return;
    if (!this.handles.down(this.at(event), this.project, "space")) return;
    event.stopPropagation();
    this.scene.canvas.setPointerCapture(event.pointerId);
  }

  move(event) {
    this.handles.move(event, this.at(event), this.project, "space");
    if (this.handles.drag) event.stopPropagation();
  }

  up(event) {
    if (!this.handles.drag) return;
    event.stopPropagation();
    this.handles.up();
  }

  draw(context) {
    this.handles.draw(context, this.project, "space");
  }
}
