// The pointer on the plate in the world stage: it goes to the bench that is open.
import { Naming } from "./naming.js";

export class WorldPointer {
  constructor(desk, hands, handles) {
    this.desk = desk;
    this.handles = handles;
    /** By bench, what takes the pointer there. */
    this.hands = hands;
    this.naming = new Naming(desk);
  }

  get hand() {
    const { state } = this.desk;
    return state.stage === "world" ? this.hands[state.world.bench] : null;
  }

  get dragging() {
    return this.handles.drag ? this.handles.view === "plate" : Boolean(this.hand?.dragging);
  }

  down(event, at) {
    const { state } = this.desk;
    const busy = state.world.tool || state.world.draft || state.world.placing;
    if (!busy && this.handles.down(at, this.handles.plate, "plate")) return true;
    return Boolean(this.hand?.down?.(event, at));
  }

  move(event, at) {
    const { state } = this.desk;
    const busy = state.world.tool || this.handles.shown;
    const naming = state.stage === "world" && ["datum", "points"].includes(state.world.bench) && !busy;
    if (this.handles.shown) this.handles.move(event, at, this.handles.plate, "plate");
    if (this.handles.drag) return;
    if (naming) this.naming.move(at);
    this.hand?.move?.(event, at);
  }

  up() {
    if (this.handles.drag) this.handles.up();
    else this.hand?.up?.();
  }

  cancel() {
    return Boolean(this.hand?.cancel?.()) || this.handles.cancel();
  }

  draw(context, state, toScreen) {
    if (state.stage === "world") this.handles.draw(context, this.handles.plate, "plate");
    this.hand?.draw?.(context, state, toScreen);
  }
}
