// The world stage: the scene's coordinates, what stands in it, and whether it sticks.
import { toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { DatumBench } from "./datum.js";
import { Ground } from "./ground.js";
import { Handles } from "./handles.js";
import { PaintingBench } from "./painting.js";
import { WorldPointer } from "./pointer.js";
import { PointsBench } from "./points.js";
import { ProbesBench } from "./probes.js";
import { ProxiesBench } from "./proxies.js";
import { SlipBench } from "./slip.js";
import { Solids } from "./solids.js";

const BENCHES = {
  datum: "ground, origin, heading, scale",
  points: "the points in 3D",
  proxies: "geometry that stands for the set",
  probes: "test objects",
  slip: "slip, measured on the plate",
  painting: "the plate projected onto proxies",
};

export class WorldStage {
  constructor(desk) {
    this.desk = desk;
    this.ground = new Ground(desk);
    this.datum = new DatumBench(desk, this.ground);
    this.points = new PointsBench(desk);
    this.proxies = new ProxiesBench(desk);
    this.probes = new ProbesBench(desk);
    this.slip = new SlipBench(desk);
    this.painting = new PaintingBench(desk);
    this.solids = new Solids(desk);
    this.benches = [this.datum, this.points, this.proxies, this.probes, this.slip, this.painting];
    this.handles = new Handles(desk);
    const hands = {
      datum: this.ground,
      proxies: this.proxies,
      probes: this.probes,
      slip: this.slip,
      painting: this.painting,
    };
    this.guest = new WorldPointer(desk, hands, this.handles);
    this.actions = [
      ...Object.entries(BENCHES).map(([bench, words]) => ({
        id: `world-${bench}`,
        name: `World: ${words}`,
        run: () => this.open(bench),
      })),
      ...this.handles.actions,
      ...this.benches.flatMap((bench) => bench.actions),
    ];
  }

  open(bench) {
    const { store, state } = this.desk;
    this.guest.cancel();
    this.desk.goStage("world");
    this.desk.viewport.canvas.style.cursor = "";
    store.set({ world: { ...state.world, bench, tool: null, under: null, draft: null, placing: null, lent: null } });
    if (bench === "slip" && state.lane !== "slip") store.set({ lane: "slip" });
    find("#lanekind").value = this.desk.state.lane;
  }

  settle(server) {
    this.slip.renew(server).catch((error) => toast(error.message, true));
    this.solids.renew(server, this.desk.state.attempt).catch((error) => toast(error.message, true));
  }

  /** Delete takes away the chosen thing. */
  remove() {
    const { world, stage } = this.desk.state;
    const bench = { proxies: this.proxies, probes: this.probes }[world.bench];
    const found = stage === "world" && bench?.things.chosen;
    if (!found) return false;
    bench.things.send({ [found[0]]: null }, `Take ${found[1].name} away`);
    return true;
  }

  changed(keys) {
    const { state } = this.desk;
    if (keys.has("frame") && state.world.still) this.slip.keepStill();
    if (state.stage !== "world") return;
    if (keys.has("frame") || keys.has("attempt")) this.handles.renew();
    if (keys.has("frame") && state.world.under) {
      this.desk.store.set({ world: { ...state.world, under: null } });
    }
    if (
      ["stage", "world", "server", "attempt", "tracks", "solids", "measured", "selection", "only"].some((key) =>
        keys.has(key),
      )
    )
      this.draw();
  }

  draw() {
    const { bench } = this.desk.state.world;
    for (const box of document.querySelectorAll("[data-world]")) box.hidden = box.dataset.world !== bench;
    for (const name of Object.keys(BENCHES)) {
      find(`[data-act="world-${name}"]`).classList.toggle("on", bench === name);
    }
    for (const button of document.querySelectorAll('[data-act="handles"]'))
      button.classList.toggle("on", this.handles.shown);
    for (const button of document.querySelectorAll("[data-chosen]")) button.hidden = !this.handles.target;
    this[bench]?.draw();
  }
}
