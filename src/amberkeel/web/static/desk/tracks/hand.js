// Tracks and surfaces placed by hand, with the loupe, and followed from there.
import { post, toast } from "../shell/api.js";
import { find, typed } from "../shell/dom.js";
import { Loupe } from "./loupe.js";
import { Placer } from "./placing.js";
import { lensKnown, reach } from "./reach.js";

const HINTS = {
  none: "Click a spot to place a track; hold and drag to aim, with the loupe.",
  here: "F follows it both ways. Drag the cross to set a key, the solid corner: pattern; the dashed one: search area.",
  away: "It has no place on this frame. Hold Shift and click to set a key, or go to a frame where it lives.",
};

/** Half sides of a new track's pattern and search area, pixels of a picture 1280 wide. */
const PATTERN = 10;
const SEARCH = 26;

export class HandBench {
  constructor(desk) {
    this.desk = desk;
    this.loupe = new Loupe(desk);
    this.placer = new Placer(desk.store, desk.viewport, {
      place: (x, y) => this.place(x, y),
      key: (id, x, y) => desk.send(`tracks/${id}/key`, { frame: desk.state.frame, x, y }),
      settings: (id, settings) => desk.send(`tracks/${id}/settings`, { settings }),
      surface: (outline) => this.surface(outline),
      loupe: (position, id) => this.loupe.show(position, id, this.placer.grip?.settings),
    });
    for (const id of ["#patchmodel", "#reference", "#minscore", "#patience"]) {
      find(id).addEventListener("change", () => this.changeSettings());
    }
    find("#solved").addEventListener("change", (e) => desk.store.set({ showSolved: e.target.checked }));
    const step = (by) => () => this.follow([desk.state.frame + by]);
    const name = (words) => `Tracks: follow the placed track ${words}`;
    this.actions = [
      { id: "hand-on", name: name("forwards"), run: () => this.follow([desk.span[1]]) },
      { id: "hand-back", name: name("backwards"), run: () => this.follow([desk.span[0]]) },
      { id: "hand-both", name: name("both ways"), keys: "F", run: () => this.followBoth() },
      { id: "hand-on1", name: name("one frame on"), keys: ".", run: step(1) },
      { id: "hand-back1", name: name("one frame back"), keys: ",", run: step(-1) },
      { id: "hand-unkey", name: "Tracks: remove the key here", run: () => this.removeKey() },
    ];
  }

  settings() {
    return {
      model: find("#patchmodel").value,
      reference: find("#reference").value,
      min_score: typed(find("#minscore").value),
      patience: Number(find("#patience").value),
    };
  }

  place(x, y) {
    const { desk } = this;
    return desk.act(async () => {
      const scale = Math.max(1, desk.state.width / 1280);
      const [pattern, search] = [PATTERN, SEARCH].map((side) => Math.round(side * scale));
      const settings = { ...this.settings(), pattern: [pattern, pattern], search: [search, search] };
      const body = { frame: desk.state.frame, x, y, images: find("#images").value, settings };
      const answer = await desk.answered(await post(desk.at("tracks/place"), body));
      desk.store.set({ selection: new Set([answer.track]) });
    });
  }

  surface(outline) {
    const [first, last] = this.desk.span;
    const grid = [Number(find("#gridx").value), Number(find("#gridy").value)];
    const images = find("#images").value;
    return this.desk.start("surface", { outline, frame: this.desk.state.frame, grid, first, last, images });
  }

  changeSettings() {
    const { chosen } = this.placer;
    if (!chosen) return;
    this.desk.send(`tracks/${chosen.id}/settings`, { settings: { ...chosen.settings, ...this.settings() } });
  }

  removeKey() {
    const { chosen } = this.placer;
    if (chosen) this.desk.send(`tracks/${chosen.id}/key`, { frame: this.desk.state.frame, remove: true });
  }

  followBoth() {
    return this.follow([...new Set([...this.desk.span].reverse())].filter((s) => s !== this.desk.state.frame));
  }

  /** Follow the chosen track from the frame at hand to each of `stops`. */
  follow(stops) {
    const { chosen } = this.placer;
    const { state } = this.desk;
    if (!chosen) return toast("Select one track that was placed by hand.", true);
    if (stops.some((s) => s < state.first || s > state.last)) return toast("The plate ends here.", true);
    const body = { start: state.frame, stops, revision: this.desk.revision };
    return this.desk.act(async () => {
      const answer = await post(this.desk.at(`tracks/${chosen.id}/follow`), body);
      if (answer.job) return toast("Following; it runs beside your work.");
      await this.desk.take(answer);
      return this.arrive(chosen.id, stops[0], answer.said);
    });
  }

  /** Go to the frame a track was followed to, or say why it is not there. */
  arrive(id, frame, said) {
    const { tracks } = this.desk.state;
    const t = tracks.row.get(id);
    if (!tracks.frames.slice(tracks.first[t], tracks.first[t + 1]).includes(frame)) return toast(said, true);
    return this.desk.store.set({ frame });
  }

  draw(keys) {
    const { chosen } = this.placer;
    find("#placehint").textContent = HINTS[!chosen ? "none" : chosen.position ? "here" : "away"];
    const { tracks, server } = this.desk.state;
    if (this.counted !== tracks || this.stated !== server?.constraints) {
      [this.counted, this.stated] = [tracks, server?.constraints];
      const known = lensKnown(find("#focalknown").value, find("#distortion").value);
      find("#placereach").textContent = tracks ? reach(tracks, known, this.stated ?? []) : "";
    }
    if (chosen && keys.has("selection")) {
      const s = this.desk.state.tracks.settings[chosen.id];
      find("#patchmodel").value = s.model;
      find("#reference").value = s.reference;
      find("#minscore").value = s.min_score.toFixed(2);
      find("#patience").value = s.patience;
    }
    this.placer.show();
  }
}
