// The 3D view beside the plate: made when it is first looked at.
import { find } from "../shell/dom.js";
import { Scene } from "./scene.js";
import { SpaceHandles } from "./space_handles.js";

export class Space {
  constructor(desk) {
    this.desk = desk;
    this.scene = null;
  }

  /** Show the plate, the scene, both, or charts of the residuals. */
  show(view) {
    const { store, state, frames } = this.desk;
    store.set({ view });
    find("#platepane").hidden = ["space", "charts"].includes(view);
    find("#spacepane").hidden = ["plate", "charts"].includes(view);
    find("#chartpane").hidden = view !== "charts";
    if (["both", "space"].includes(view) && !this.scene) {
      this.scene = new Scene(find("#space"), store, frames);
      this.scene.handles = new SpaceHandles(this.scene, this.desk.stages.world.handles);
      this.scene.load(state.attempt);
      this.scene.setSolids();
      this.scene.setOther(state.overlay?.paths);
      this.scene.setShots(state.ties.known?.others);
      this.scene.setBodies(state.ties.bodies);
    }
    this.note();
    this.scene?.redraw();
  }

  note() {
    const { attempt, sigmas, overlay } = this.desk.state;
    const factor = sigmas && this.scene?.factor;
    const readout = attempt?.world.shutter?.readout;
    const apart = overlay?.paths?.factor ?? 0;
    const notes = [
      apart ? `Pale: the path before. Amber: after, its departure ${apart > 1 ? `×${apart}` : "as it is"}` : "",
      factor ? `One sigma of each point, ×${factor}; the longest are cut` : "",
      readout ? `A rolling shutter: each camera is that of its middle row, readout ${readout.toFixed(2)}` : "",
    ];
    find("#spacenote").textContent = attempt
      ? notes.filter(Boolean).join(". ")
      : "The scene appears here once the shot is solved.";
  }

  /** Look through the camera, or orbit. */
  through() {
    if (!this.scene) this.show("both");
    this.scene.setThrough(!this.scene.through);
    find("#through").classList.toggle("on", this.scene.through);
  }

  /** The scene, made and shown where it is not. */
  shown() {
    if (!["both", "space"].includes(this.desk.state.view)) this.show("both");
    return this.scene;
  }

  draw(changed) {
    if (changed.has("frame")) this.scene?.redraw();
    if (changed.has("attempt")) this.scene?.load(this.desk.state.attempt);
    else if (["only", "pointColour", "server", "tracks"].some((key) => changed.has(key))) this.scene?.setPoints();
    if (changed.has("solids")) this.scene?.setSolids();
    if (changed.has("world")) {
      this.scene?.setChosen();
      this.scene?.setGhost();
      this.scene?.select();
    }
    if (changed.has("overlay") || changed.has("attempt")) {
      this.scene?.setOther(this.desk.state.overlay?.paths);
      this.note();
    }
    if (changed.has("sigmas") || changed.has("sure") || changed.has("attempt")) {
      this.scene?.setSigmas();
      this.note();
    }
    if (changed.has("selection") || changed.has("attempt")) this.scene?.select();
  }
}
