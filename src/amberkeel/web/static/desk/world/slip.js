// The slip bench: how far the plate slides against places that are pinned to the scene, measured on the picture.
import { get, post, toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";

/** Places that are listed. */
const MOST_SHOWN = 30;

/** Zoom at the least at which a place is held still. */
const HELD_ZOOM = 7;

/** A whole slip below this shows nothing that an eye would see, px. */
const UNSEEN_PX = 0.15;

export class SlipBench {
  constructor(desk) {
    this.desk = desk;
    this.known = null;
    this.actions = [
      { id: "measure-slip", name: "World: measure slip on the plate", run: () => this.measure() },
      { id: "slip-still", name: "World: hold the chosen place still", keys: "Shift K", run: () => this.holdStill() },
      { id: "slip-worst", name: "World: to the chosen place's worst frame", keys: "Shift N", run: () => this.worst() },
    ];
    find("#slipgain").addEventListener("input", () => this.keepStill());
  }

  set(change) {
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, ...change } });
  }

  get chosen() {
    const { measured, world } = this.desk.state;
    return measured?.places.find((place) => place.number === world.place);
  }

  measure() {
    this.desk.goStage("world");
    this.set({ bench: "slip" });
    return this.desk.act(async () => {
      await post(this.desk.at("world/slip"), {});
      toast("Slip is being measured; it runs beside your work.");
    });
  }

  /** Fetch what was measured on the pinned attempt where that is another. */
  async renew(server) {
    const pinned = server.attempts.find((a) => a.id === server.pinned);
    const key = pinned ? `${pinned.id} ${pinned.slip}` : "";
    if (key === this.known) return;
    this.known = key;
    const measured = pinned?.slip ? await get(`/attempts/${pinned.id}/measured.json`) : null;
    this.desk.store.set({ measured });
  }

  choose(place, go) {
    const { state, store } = this.desk;
    const same = state.world.place === place.number;
    this.set({ place: same && !go ? null : place.number });
    if (go) store.set({ frame: place.worst });
    if (state.world.still) this.keepStill();
  }

  worst() {
    if (!this.chosen) return toast("Choose a place first.", true);
    return this.desk.store.set({ frame: this.chosen.worst });
  }

  /** Hold the chosen place in the middle of the view, large, its slip exaggerated; or let the view go. */
  holdStill() {
    const { state, viewport } = this.desk;
    if (state.world.still) {
      this.set({ still: false });
      return viewport.fit();
    }
    if (!this.chosen) return toast("Choose a place in the list or on the plate first.", true);
    this.set({ bench: "slip", still: true });
    viewport.zoom = Math.max(viewport.zoom, HELD_ZOOM);
    return this.keepStill();
  }

  get gain() {
    return Math.round(10 ** (Number(find("#slipgain").value) / 50));
  }

  keepStill() {
    const { state, viewport } = this.desk;
    find("#slipfactor").textContent = `×${this.gain}`;
    if (!state.world.still || !this.chosen) return;
    const at = spotOn(this.chosen, state.measured, state.frame);
    if (!at) return;
    const [dx, dy] = at.slip ?? [0, 0];
    // The object stays in the middle; the picture slides about it by its slip, enlarged.
    viewport.centre(at.at[0] - (this.gain - 1) * dx, at.at[1] - (this.gain - 1) * dy);
  }

  down(_event, at) {
    const { state, viewport } = this.desk;
    if (!state.measured) return false;
    let best = 12;
    let found = null;
    for (const place of state.measured.places) {
      const here = spotOn(place, state.measured, state.frame);
      if (!here) continue;
      const [x, y] = viewport.toScreen(...here.at);
      const d = Math.hypot(x - at[0], y - at[1]);
      if (d < best) [best, found] = [d, place];
    }
    if (!found) return false;
    this.choose(found, false);
    return true;
  }

  move() {}

  cancel() {
    if (!this.desk.state.world.still) return false;
    this.holdStill();
    return true;
  }

  draw() {
    const { measured, world, attempt } = this.desk.state;
    const box = find("#sliplist");
    find('[data-act="slip-still"]').classList.toggle("on", Boolean(world.still));
    find("#slipfactor").textContent = `×${this.gain}`;
    find("#slipsays").textContent = measured?.said ?? "";
    find("#slipsays").classList.toggle("say", measured?.kind === "slips");
    if (!measured?.places.length) {
      const words = attempt
        ? "Nothing was measured yet. Places over the picture, and the feet of probe objects, are followed on " +
          "the plate itself, apart from the solve's tracks."
        : "Solve first.";
      return box.replaceChildren(element("p", "label my-1", words));
    }
    const rows = measured.places.slice(0, MOST_SHOWN).map((place) => this.row(place));
    const more = measured.places.length - MOST_SHOWN;
    return box.replaceChildren(...rows, ...(more > 0 ? [element("p", "label", `and ${more} that slip less`)] : []));
  }

  row(place) {
    const { world } = this.desk.state;
    const row = element(
      "button",
      `linerow${place.number === world.place ? " on" : ""}${place.rms > UNSEEN_PX ? " bad" : ""}`,
    );
    const expected = place.expected == null ? "" : ` / ${place.expected.toFixed(2)}`;
    row.append(
      element("i", "", place.name ? "◆" : "·"),
      element("span", "truncate", place.name || `from ${place.first}`),
      element("span", "label fig", `${place.worst}`),
      element("span", "fig", `${place.rms.toFixed(2)}${expected} px`),
    );
    const words = `Measured${expected ? " / expected by the solve" : ""}, RMS`;
    row.title = `${words}; worst on frame ${place.worst}: ${place.most} px`;
    row.addEventListener("pointerdown", (e) => e.button === 0 && this.choose(place, true));
    return row;
  }
}

/** Where a place lies on a frame, and its slip there; null where it is not seen. */
export function spotOn(place, measured, frame) {
  measured.rows ??= new Map(measured.frames.map((f, k) => [f, k]));
  const k = measured.rows.get(frame);
  const at = k === undefined ? null : place.at[k];
  return at ? { at, slip: place.slip[k] } : null;
}
