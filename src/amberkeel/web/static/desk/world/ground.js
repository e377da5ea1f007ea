// The ground under the pointer: planks on the plane through the points there. A click takes it.
import { get, toast } from "../shell/api.js";
import { oneAtATime } from "../shell/dom.js";

export class Ground {
  constructor(desk) {
    this.desk = desk;
    this.at = null;
    this.ask = oneAtATime(() => this.asked());
  }

  get active() {
    const { state } = this.desk;
    return state.stage === "world" && state.world.bench === "datum" && Boolean(state.world.tool);
  }

  /** Take up a tool of the pointer, or lay it down. */
  take(tool) {
    const { store, state } = this.desk;
    const same = state.world.tool === tool;
    store.set({ world: { ...state.world, tool: same ? null : tool, under: null } });
    this.desk.viewport.canvas.style.cursor = same ? "" : "crosshair";
  }

  cancel() {
    if (!this.active) return false;
    this.take(this.desk.state.world.tool);
    return true;
  }

  move(_event, at) {
    if (!this.active) return;
    this.at = this.desk.viewport.toPlate(...at);
    if (this.desk.state.world.tool === "ground") this.ask();
  }

  async asked() {
    const { store, state } = this.desk;
    const [x, y] = this.at;
    const { frame } = state;
    const found = await get(this.desk.at(`world/under.json?frame=${frame}&x=${x.toFixed(2)}&y=${y.toFixed(2)}`)).catch(
      (error) => ({ trouble: error.message }),
    );
    if (this.active && state.frame === frame) {
      store.set({ world: { ...state.world, under: { ...found, frame, spot: [x, y] } } });
    }
  }

  down(event, at) {
    if (!this.active) return false;
    const { state } = this.desk;
    const { tool, under } = state.world;
    const [x, y] = this.desk.viewport.toPlate(...at);
    this.at = [x, y];
    if (tool === "spot") this.desk.send("datum", { what: "spot", frame: state.frame, x, y });
    else this.accept(under, [x, y]);
    event.preventDefault();
    return true;
  }

  /** Take the plane that is shown; asked for once more where the pointer moved on since. */
  async accept(under, [x, y]) {
    const near = under?.spot && Math.hypot(under.spot[0] - x, under.spot[1] - y) < 3;
    if (!near) await this.asked();
    const now = this.desk.state.world.under;
    if (now?.trouble || !now?.tracks) return toast(now?.trouble ?? "There is no plane here.", true);
    await this.desk.send("datum", {
      what: "under",
      tracks: now.tracks,
      frame: now.frame,
      x: now.spot[0],
      y: now.spot[1],
    });
    return this.cancel();
  }
}
