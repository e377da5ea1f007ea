// The pointer on the plate in the world stage: it goes to the bench that is open.
import { Naming } from "./naming.js";

export class WorldPointer {
  constructor(desk, hands) {
    this.desk = desk;
    /** By bench, what takes the pointer there. */
    this.hands = hands;
    this.naming = new Naming(desk);
  }

  get hand() {
    const { state } = this.desk;
    return state.stage === "world" ? this.hands[state.world.bench] : null;
  }

  get dragging() {
    return Boolean(this.hand?.dragging);
  }

  down(event, at) {
    return Boolean(this.hand?.down(event, at));
  }

  move(event, at) {
    const { state } = this.desk;
    const naming = state.stage === "world" && ["datum", "points"].includes(state.world.bench) && !state.world.tool;
    if (naming) this.naming.move(at);
    this.hand?.move(event, at);
  }

  up() {
    this.hand?.up?.();
  }

  cancel() {
    return Boolean(this.hand?.cancel());
  }

  draw(context, state, toScreen) {
    this.hand?.draw?.(context, state, toScreen);
  }
}
