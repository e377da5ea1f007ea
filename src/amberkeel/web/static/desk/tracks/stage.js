// The tracks stage: its benches, and what the pointer and keys do on each.

import { CopyBench } from "../plate/copy.js";
import { postForm } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { TrackChanges } from "./changes.js";
import { FeaturesBench } from "./features.js";
import { HandBench } from "./hand.js";
import { Judging } from "./judging.js";
import { SightingsBench } from "./sightings_bench.js";
import { TagsBench } from "./tags.js";

const BENCHES = {
  find: "find and follow features",
  place: "place by hand",
  surface: "follow a surface",
  choose: "choose from sightings",
  weed: "judge and weed",
  tags: "find fiducial tags",
  copy: "the tracking copy",
  table: "tables in and out",
};
const FOLLOWS_NOTHING = ["weed", "tags", "table"];

export class TracksStage {
  constructor(desk) {
    this.desk = desk;
    this.changes = new TrackChanges(desk);
    this.features = new FeaturesBench(desk);
    this.hand = new HandBench(desk);
    this.judging = new Judging(desk, this.changes, () => this.open("weed"));
    this.sightings = new SightingsBench(desk, this.features);
    this.copy = new CopyBench(desk);
    this.tags = new TagsBench(desk);
    this.guest = this.hand.placer;
    this.actions = [
      ...Object.entries(BENCHES).map(([bench, words]) => ({
        id: `bench-${bench}`,
        name: `Tracks: ${words}`,
        run: () => this.open(bench),
      })),
      ...[this.features, this.hand, this.sightings, this.tags, this.copy, this.changes, this.judging].flatMap(
        (b) => b.actions,
      ),
    ];
    find("#tableform").addEventListener("submit", (e) => {
      e.preventDefault();
      desk.act(async () => desk.answered(await postForm(desk.at("tracks.csv"), new FormData(e.target))));
    });
    find("#curve").addEventListener("change", () => desk.lanes.draw());
  }

  /** Go to a bench of the stage. */
  open(bench) {
    this.guest.cancel();
    this.desk.goStage("tracks");
    this.desk.store.set({ bench });
  }

  changed(keys) {
    const { state } = this.desk;
    const here = keys.has("frame") && state.stage === "tracks" && state.bench !== "find" && !state.playing;
    if (here || ["stage", "bench", "selection", "server", "tracks", "taken"].some((k) => keys.has(k))) this.draw(keys);
    if (keys.has("frame") && !state.playing) this.features.stepped();
  }

  /** Draw what the server and the selection say. */
  draw(keys = new Set(["stage", "bench", "server"])) {
    const { state, viewport } = this.desk;
    const here = state.stage === "tracks";
    find("#desk").classList.toggle("tracking", here);
    find("#curve").hidden = !here;
    find("#followedon").hidden = FOLLOWS_NOTHING.includes(state.bench);
    for (const box of document.querySelectorAll("[data-bench]")) box.hidden = box.dataset.bench !== state.bench;
    for (const bench of Object.keys(BENCHES)) {
      find(`[data-act="bench-${bench}"]`).classList.toggle("on", state.bench === bench);
    }
    const { style } = viewport.canvas;
    if (here && ["place", "surface"].includes(state.bench)) style.cursor = "crosshair";
    else if (here && style.cursor === "crosshair") style.cursor = "";
    for (const bench of [this.hand, this.tags, this.copy, this.judging, this.sightings]) bench.draw(keys);
  }

  /** Delete cuts the samples chosen in the curves; tells whether there were any. */
  remove() {
    if (!this.desk.state.samples.size) return false;
    this.changes.cut();
    return true;
  }
}
