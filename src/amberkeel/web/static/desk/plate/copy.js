// The tracking copy: its operations, a look at the frame through them, and replaced images.
import { toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { drawStack, OPERATIONS } from "./operations.js";

/** Changes that come within this time are looked at together, ms. */
const REST_MS = 120;

export class CopyBench {
  constructor(desk) {
    this.desk = desk;
    this.asked = 0;
    this.timer = 0;
    this.change = (stack, settled) => this.changed(stack, settled);
    const replace = () => desk.send("replaced", { path: find("#replacedpath").value });
    this.actions = [{ id: "replaced", name: "Tracks: use replaced images", run: replace }];
    for (const name of Object.keys(OPERATIONS)) find("#addoperation").append(new Option(name, name));
    find("#addoperation").addEventListener("change", (e) => {
      if (e.target.value) this.changed([...desk.state.stack, { name: e.target.value, figures: {}, on: true }], true);
      e.target.value = "";
    });
    find("#images").addEventListener("change", (e) => {
      desk.store.set({ images: e.target.value });
      this.show();
    });
  }

  /** The stack is another; `settled` once a slider is let go. */
  changed(stack, settled) {
    this.desk.store.set({ stack: [...stack] });
    if (settled) drawStack(this.desk.state.stack, this.change);
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.show(), REST_MS);
    if (settled) this.desk.send("copy", { stack });
  }

  /** Fetch this frame of the copy as it is now, and show it right of the line. */
  async show() {
    const { state, store } = this.desk;
    if (state.stage !== "tracks" || state.bench !== "copy") {
      if (state.copy) store.set({ copy: null });
      return;
    }
    const mine = (this.asked += 1);
    const stack = encodeURIComponent(JSON.stringify(state.stack));
    const answer = await fetch(this.desk.at(`copy/${state.frame}.jpg?images=${find("#images").value}&stack=${stack}`));
    if (mine !== this.asked) return;
    if (!answer.ok) {
      toast((await answer.json().catch(() => ({}))).error ?? "The copy cannot be shown.", true);
      return;
    }
    const picture = await createImageBitmap(await answer.blob());
    if (mine === this.asked) store.set({ copy: { picture, frame: state.frame } });
  }

  draw(keys) {
    const { state, store } = this.desk;
    if (keys.has("server") && state.server) {
      const kept = JSON.stringify(state.server.stack);
      const { replaced } = state.server;
      if (kept !== JSON.stringify(state.stack)) {
        store.set({ stack: JSON.parse(kept) });
        drawStack(state.stack, this.change);
        this.show();
      }
      find("#replacednow").textContent = replaced ? `in use: ${replaced.split("/").slice(-2).join("/")}` : "none";
    }
    if (keys.has("bench") && state.bench === "copy") drawStack(state.stack, this.change);
    if (["bench", "stage", "frame"].some((k) => keys.has(k))) this.show();
  }
}
