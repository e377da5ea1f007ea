// The bench of sightings: fetched when they are looked at, chosen on the plate, made into tracks.
import { get, post } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { indexSightings, onFrame } from "./sightings.js";

const WORDS = "Candidates are chained over the frames and shown with their tails; those you choose become tracks.";

export class SightingsBench {
  constructor(desk, features) {
    this.desk = desk;
    const { store, state } = desk;
    const here = () => new Set(onFrame(state).map(([n]) => n));
    this.actions = [
      { id: "sight", name: "Tracks: look for sightings", run: () => desk.start("sight", features.settings()) },
      {
        id: "sight-all",
        name: "Tracks: choose all sightings here that live long enough",
        run: async () => {
          await this.fetched();
          store.set({ taken: here() });
        },
      },
      { id: "sight-take", name: "Tracks: make tracks of the chosen sightings", run: () => this.take() },
    ];
    find("#sightlength").addEventListener("input", (e) => {
      store.set({ sightLength: Number(e.target.value) || 1 });
      this.draw();
    });
    desk.viewport.picks = () => this.picks();
  }

  get here() {
    return this.desk.state.stage === "tracks" && this.desk.state.bench === "choose";
  }

  /** What can be picked on the plate while sightings are chosen. */
  picks() {
    const { state, store, viewport } = this.desk;
    if (!this.here || !state.sightings) return null;
    const items = onFrame(state).map(([n, x, y]) => [n, ...viewport.toScreen(x, y)]);
    return { items, chosen: state.taken, set: (taken) => store.set({ taken }) };
  }

  async take() {
    const { desk } = this;
    const { taken, server } = desk.state;
    await desk.act(async () =>
      desk.answered(await post(desk.at("sightings"), { rows: [...taken], of: server.sightings })),
    );
    desk.store.set({ taken: new Set() });
  }

  /** Fetch the sightings of the last look, once however many ask. */
  async fetched() {
    const { state, store } = this.desk;
    const of = state.server.sightings;
    if (!of || state.sightings?.of === of) return;
    if (this.asked?.of !== of) {
      const bring = async () => {
        const data = await get(this.desk.at("sightings.json"));
        store.set({ sightings: { ...indexSightings(data, state.first, state.last), of }, taken: new Set() });
      };
      this.asked = { of, done: bring().finally(() => (this.asked = null)) };
    }
    await this.asked.done;
  }

  async draw() {
    const { state } = this.desk;
    if (!this.here || !state.server) return;
    const of = state.server.sightings;
    if (of && state.sightings?.of !== of) {
      find("#sightwords").textContent = "Fetching the sightings.";
      await this.fetched();
    }
    const counts = `${state.sightings?.count ?? 0} sightings, ${onFrame(state).length} in sight here.`;
    find("#sightwords").textContent = of ? `${counts} Click, box or lasso them on the plate.` : WORDS;
    find("#sightcount").textContent = state.taken.size;
  }
}
