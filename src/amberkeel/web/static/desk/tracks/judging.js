// Judging tracks: the filters with their counts, pieces that may be one spot, and groups.
import { get, toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";
import { caught, drawFilters, drawReturns, FILTERS, jumpSamples } from "./filters.js";

export class Judging {
  /** `changes` makes changes to tracks; `open` goes to the bench where tracks are judged. */
  constructor(desk, changes, open) {
    this.desk = desk;
    this.changes = changes;
    this.judged = null;
    this.asked = 0;
    this.known = "";
    this.actions = FILTERS.map(([key, name]) => ({
      id: `filter-${key}`,
      name: `Tracks: select those: ${name.toLowerCase()}`,
      run: async () => {
        open();
        await this.judge();
        if (this.judged) this.choose(caught(this.judged, key));
      },
    }));
  }

  choose(ids, more = {}) {
    this.desk.store.set({ selection: new Set(ids), ...more });
  }

  draw() {
    this.judge();
    if (this.judged) this.show();
  }

  /** Fetch the figures by which tracks are judged, where they are looked at. */
  async judge() {
    const { state } = this.desk;
    if (state.stage !== "tracks" || state.bench !== "weed" || !state.server) return;
    const stamp = `${state.server.tracks_stamp} ${state.server.revision}`;
    if (this.known === stamp && this.judged) return;
    this.known = stamp;
    const mine = (this.asked += 1);
    this.judged = null;
    this.show();
    const found = await get(this.desk.at("judgement.json")).catch((e) => {
      toast(e.message, true);
      return null;
    });
    if (mine !== this.asked) return;
    this.judged = found;
    this.show();
  }

  show() {
    const { judged } = this;
    const { state, store } = this.desk;
    // The rows are made once and stay: what they do must look at the figures of that moment.
    drawFilters(judged, {
      changed: () => this.show(),
      preview: (key) => store.set({ flagged: key ? new Set(caught(this.judged, key)) : null }),
      select: (key, add) => {
        if (!this.judged) return;
        const samples = key === "jump" ? jumpSamples(this.judged, state.tracks) : new Map();
        this.choose([...(add ? state.selection : []), ...caught(this.judged, key)], { samples });
        if (key === "jump") toast("Their jumping samples are chosen: Cut takes just those.");
      },
    });
    drawReturns(
      judged,
      ([a, b]) => {
        const { tracks } = state;
        this.choose([a, b], { frame: tracks.frames[tracks.first[tracks.row.get(a) + 1] - 1] });
      },
      ([a, b]) => {
        this.choose([a, b]);
        this.changes.change("join", { tracks: [a, b] });
      },
    );
    const groups = Object.entries(state.server?.groups ?? {}).filter(([name]) => state.tracks?.groups.includes(name));
    find("#groups").replaceChildren(...groups.map(([name, group]) => this.groupRow(name, group)));
  }

  groupRow(name, { colour, hidden }) {
    const { tracks } = this.desk.state;
    const own = tracks.ids.filter((_, t) => tracks.groups[t] === name);
    const row = element("div", `maskrow${hidden ? " off" : ""}`);
    const dot = element("i");
    dot.style.background = colour;
    const eye = element("button", "button quiet", hidden ? "show" : "hide");
    eye.style.padding = "0 6px";
    eye.addEventListener("click", (e) => {
      e.stopPropagation();
      this.changes.change("hide", { name, hidden: !hidden });
    });
    row.append(dot, element("span", "grow truncate", name), element("span", "fig label", `${own.length}`), eye);
    row.addEventListener("click", () => this.choose(own));
    return row;
  }
}
