// The ties stage: the set of a shot, its ties, the other shots of the set, and two plates side by side.
import { get, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { BodiesBench } from "./bodies.js";
import { OtherPlate } from "./other.js";
import { SeenBench } from "./seen.js";
import { SetBench } from "./set.js";
import { TiesBench } from "./tying.js";

const BENCHES = {
  set: "the set of this shot",
  ties: "ties and alignment",
  seen: "the other shots of the set",
  bodies: "what moves on its own",
};

export class TiesStage {
  constructor(desk) {
    this.desk = desk;
    this.known = "";
    this.other = new OtherPlate(desk);
    this.set = new SetBench(desk);
    this.ties = new TiesBench(desk, this.other);
    this.seen = new SeenBench(desk);
    this.bodies = new BodiesBench(desk);
    this.benches = { set: this.set, ties: this.ties, seen: this.seen, bodies: this.bodies };
    this.actions = [
      ...Object.entries(BENCHES).map(([bench, words]) => ({
        id: `ties-${bench}`,
        name: `Ties: ${words}`,
        run: () => this.open(bench),
      })),
      ...Object.values(this.benches).flatMap((bench) => bench.actions),
    ];
  }

  open(bench) {
    const { store, state } = this.desk;
    this.desk.goStage("ties");
    store.set({ ties: { ...state.ties, bench } });
  }

  /** Fetch what is known of sets and ties where the shot's or the production's is another. */
  async settle(server) {
    const key = `${server.revision} ${server.pinned}`;
    if (key === this.known) return;
    this.known = key;
    await this.fetch().catch((error) => toast(error.message, true));
  }

  async fetch() {
    const { desk } = this;
    const known = await get(desk.at("ties.json"));
    const placed = known.set && (known.aligned || known.set.own);
    const seen = placed ? (await get(desk.at("ties/seen.json"))).points : [];
    desk.store.set({ ties: { ...desk.state.ties, known, seen: byFrame(seen) } });
    desk.space.scene?.setShots(known.others);
    await this.bodies.fetch();
  }

  /** Delete drops the chosen ties. */
  remove() {
    return this.desk.state.stage === "ties" && this.ties.drop();
  }

  changed(keys) {
    const { state } = this.desk;
    if (keys.has("stage") && state.stage !== "ties" && this.other.isShown) this.other.hide();
    if (state.stage !== "ties") return;
    if (["stage", "ties", "selection", "server"].some((key) => keys.has(key))) this.draw();
    if (keys.has("frame")) this.ties.hand.moved();
    if (["selection", "ties"].some((key) => keys.has(key))) this.other.draw();
  }

  draw() {
    const { bench, known } = this.desk.state.ties;
    for (const box of document.querySelectorAll("[data-ties]")) box.hidden = box.dataset.ties !== bench;
    for (const name of Object.keys(BENCHES)) find(`[data-act="ties-${name}"]`).classList.toggle("on", bench === name);
    if (known) this.benches[bench].draw(known);
  }
}

/** Where the set's points lie, by frame: [name, x, y]. */
function byFrame(points) {
  const out = new Map();
  for (const { name, frames, at } of points)
    frames.forEach((frame, k) => {
      if (!out.has(frame)) out.set(frame, []);
      out.get(frame).push([name, ...at[k]]);
    });
  return out;
}
