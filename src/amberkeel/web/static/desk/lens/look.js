// The look through a lens: the plate straightened, and k1 turned by hand.
import { toast } from "../shell/api.js";
import { find, typed } from "../shell/dom.js";

/** By how much an arrow key turns k1; ten times as much with Shift. */
const STEP = 0.0005;

/** Steps of the slider for a k1 of 1. */
const SLIDER = 1000;

export class LensLook {
  constructor(stage) {
    this.stage = stage;
    this.coming = "";
  }

  /** The lens that the look and the grid show: turned by hand, or as the lines have it. */
  get shown() {
    return this.stage.lens.fit?.lens ?? null;
  }

  /** Fetch the straightened frame where it is looked at. */
  async draw() {
    const { desk } = this.stage;
    const { state, store } = desk;
    if (state.stage !== "lens" || state.lens.look !== "straight" || !this.shown) {
      if (state.straight) store.set({ straight: null });
      return;
    }
    const { frame } = state;
    const address = `${this.stage.at(`straight/${frame}.jpg`)}?lens=${encodeURIComponent(JSON.stringify(this.shown))}`;
    if (this.coming === address || state.straight?.address === address) return;
    this.coming = address;
    try {
      const answer = await fetch(address);
      if (!answer.ok)
        throw new Error((await answer.json().catch(() => ({}))).error ?? "That lens cannot be looked through.");
      const picture = await createImageBitmap(await answer.blob());
      if (this.coming === address) store.set({ straight: { frame, picture, address } });
    } catch (error) {
      toast(error.message, true);
    }
    this.coming = "";
    if (frame !== state.frame) this.draw();
  }

  /** Turn k1 by hand. */
  turn(value) {
    if (!Number.isFinite(value)) return null;
    find("#handvalue").value = value.toFixed(4);
    find("#handk1").value = Math.round(value * SLIDER);
    this.stage.set({ hand: value });
    return this.stage.fit.byHand(value);
  }

  /** The plate straightened, or as shot. */
  toggle() {
    if (this.stage.lens.look === "straight") this.stage.set({ look: "shot" });
    else if (this.shown) this.stage.set({ look: "straight", tool: null });
    else toast("There is no lens yet: draw two lines or turn k1 by hand.", true);
  }

  listen() {
    find("#handk1").addEventListener("input", (e) => this.turn(Number(e.target.value) / SLIDER));
    find("#handvalue").addEventListener("change", (e) => this.turn(typed(e.target.value)));
    find("#handvalue").addEventListener("keydown", (e) => {
      const way = { ArrowUp: 1, ArrowDown: -1 }[e.key];
      if (!way) return;
      e.preventDefault();
      this.turn(typed(e.target.value) + way * STEP * (e.shiftKey ? 10 : 1));
    });
  }
}
