// The world stage: the scene's coordinates, what stands in it, and whether it sticks.
import { find } from "../shell/dom.js";
import { DatumBench } from "./datum.js";
import { Ground } from "./ground.js";

const BENCHES = {
  datum: "ground, origin, heading, scale",
};

export class WorldStage {
  constructor(desk) {
    this.desk = desk;
    this.ground = new Ground(desk);
    this.guest = this.ground;
    this.datum = new DatumBench(desk, this.ground);
    this.benches = [this.datum];
    this.actions = [
      ...Object.entries(BENCHES).map(([bench, words]) => ({
        id: `world-${bench}`,
        name: `World: ${words}`,
        run: () => this.open(bench),
      })),
      ...this.benches.flatMap((bench) => bench.actions),
    ];
  }

  open(bench) {
    const { store, state } = this.desk;
    this.guest.cancel();
    this.desk.goStage("world");
    store.set({ world: { ...state.world, bench, tool: null, under: null } });
  }

  changed(keys) {
    const { state } = this.desk;
    if (state.stage !== "world") return;
    if (keys.has("frame") && state.world.under) {
      this.desk.store.set({ world: { ...state.world, under: null } });
    }
    if (["stage", "world", "server", "attempt", "tracks"].some((key) => keys.has(key))) this.draw();
  }

  draw() {
    const { bench } = this.desk.state.world;
    for (const box of document.querySelectorAll("[data-world]")) box.hidden = box.dataset.world !== bench;
    for (const name of Object.keys(BENCHES)) {
      find(`[data-act="world-${name}"]`).classList.toggle("on", bench === name);
    }
    for (const one of this.benches) one.draw();
  }
}
