// What an attempt does not know, fetched when it is looked at: slip over the picture, ellipsoids, bands of the camera.
import { get, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";

const REST_MS = 120;

export class Unsure {
  constructor(desk) {
    this.desk = desk;
    this.timer = 0;
    this.of = null;
    find("#lanekind").addEventListener("change", (event) => desk.store.set({ lane: event.target.value }));
  }

  actions = [
    { id: "sigmas", name: "3D: show or hide uncertainty", keys: "Shift U", run: () => this.toggle() },
    {
      id: "lane-next",
      name: "Solve: another upper lane",
      run: () => {
        const box = find("#lanekind");
        box.selectedIndex = (box.selectedIndex + 1) % box.options.length;
        this.desk.store.set({ lane: box.value });
      },
    },
  ];

  toggle() {
    this.desk.store.set({ sigmas: !this.desk.state.sigmas });
  }

  changed(keys) {
    const { state, store } = this.desk;
    if (keys.has("attempt")) {
      this.of = null;
      store.set({ slip: null, sure: null });
    }
    if (state.layers.slip && ["frame", "layers", "attempt"].some((k) => keys.has(k))) this.waitForSlip();
    const wanted = state.sigmas || state.lane !== "residual";
    if (wanted && state.attempt && this.of !== state.attempt.id) this.fetchSure(state.attempt.id);
  }

  /** The slip of the frame that the playhead rests on. */
  waitForSlip() {
    clearTimeout(this.timer);
    this.timer = setTimeout(async () => {
      const { attempt, frame, slip } = this.desk.state;
      if (!attempt || slip?.frame === frame || !attempt.world.frames.some((f) => f.frame === frame)) return;
      const found = await get(`/attempts/${attempt.id}/slip/${frame}.json`).catch((e) => toast(e.message, true));
      if (found && this.desk.state.attempt?.id === attempt.id) this.desk.store.set({ slip: found });
    }, REST_MS);
  }

  async fetchSure(id) {
    this.of = id;
    const sure = await get(`/attempts/${id}/sure.json`).catch((e) => toast(e.message, true));
    if (sure && this.desk.state.attempt?.id === id) this.desk.store.set({ sure });
  }
}
