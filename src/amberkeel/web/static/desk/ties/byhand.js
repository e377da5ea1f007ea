// Ties by hand: a spot picked in the other plate is sought here, both patches are shown alike, and tied.
import { get, toast } from "../shell/api.js";
import { element, find, oneAtATime } from "../shell/dom.js";
import { counted } from "../shell/words.js";

/** Zoom from which the picture is moved to what is shown. */
const CLOSE = 1.3;

/** Rest of the playhead, ms, after which the spot is sought on the frame that it came to. */
const RESTS_MS = 250;

export class HandTies {
  constructor(desk, other) {
    this.desk = desk;
    this.other = other;
    this.near = null;
    this.timer = 0;
    this.seek = oneAtATime(() => this.fetch());
    other.picked = () => this.pointTo();
    desk.viewport.guests.push({ down: (event, at) => this.down(event, at), move: () => {}, up: () => {} });
    this.actions = [
      {
        id: "tie-hand",
        name: "Ties: tie the picked spot to what lies on it here",
        keys: "Shift M",
        run: () => this.tie(),
      },
    ];
  }

  set(change) {
    const { store, state } = this.desk;
    store.set({ ties: { ...state.ties, ...change } });
  }

  /** The spot that is picked in the other plate, while that is shown. */
  get picked() {
    return this.other.isShown && this.desk.state.stage === "ties" ? this.other.state.picked : null;
  }

  /** Show where the picked spot must lie here once this shot is in the set's world, and seek it. */
  async pointTo() {
    const { picked } = this;
    this.near = null;
    const known = picked?.track
      ? await get(this.desk.at(`ties/where.json?track=${picked.track}`)).catch(() => null)
      : null;
    this.set({ where: known && { name: picked.name, at: known.at }, sought: null });
    const here = known?.at[this.desk.state.frame];
    // A plate that is seen as a whole stays where it is.
    if (here && this.desk.viewport.zoom > CLOSE) this.desk.viewport.centre(here[0], here[1]);
    if (!here && known && Object.keys(known.at).length)
      this.desk.store.set({ frame: nearest(known.at, this.desk.state.frame) });
    if (picked) this.seek();
  }

  /** Seek anew once the playhead rests on another frame. */
  moved() {
    const { sought } = this.desk.state.ties;
    if (!this.picked || sought?.frame === this.desk.state.frame) return;
    this.near = null;
    clearTimeout(this.timer);
    this.timer = setTimeout(() => this.picked && this.seek(), RESTS_MS);
  }

  async fetch() {
    const { picked, near } = this;
    const { frame } = this.desk.state;
    if (!picked) return;
    const now = this.spotNow(picked);
    const query = new URLSearchParams({ x: now.x, y: now.y, there: this.other.state.frame, frame });
    if (picked.track) query.set("track", picked.track);
    if (near) [query.set("nx", near[0]), query.set("ny", near[1])];
    this.set({ sought: { name: picked.name, frame, busy: true } });
    try {
      const found = await get(this.desk.at(`ties/seek.json?${query}`));
      if (near && !found.at) Object.assign(found, { at: near, placed: true });
      this.set({ sought: { ...found, name: picked.name } });
    } catch (error) {
      this.set({ sought: { name: picked.name, frame, trouble: error.message, at: near, placed: Boolean(near) } });
    }
  }

  /** The spot as it lies on the frame that the other plate shows. */
  spotNow(picked) {
    return this.other.state.known?.spots.find((one) => one.name === picked.name) ?? picked;
  }

  /** A click here, where no track lies, says about where the picked spot is. */
  down(event, at) {
    if (!this.picked || event.shiftKey || event.ctrlKey || event.metaKey) return false;
    if (this.desk.viewport.nearest(at).length) return false;
    this.near = this.desk.viewport.toPlate(...at);
    if (this.desk.selected.length) this.desk.store.set({ selection: new Set() });
    this.seek();
    return true;
  }

  /** Tie the spot to the track that is selected here, or to where it was found. */
  tie() {
    const { picked } = this;
    const { sought, frame } = { sought: this.desk.state.ties.sought, frame: this.desk.state.frame };
    if (!picked) return toast("Pick a spot in the other plate first.", true);
    if (this.desk.selected.length > 1) return toast("Select the one track here that lies on that spot.", true);
    if (this.desk.selected.length === 1)
      return this.desk.send("ties", { what: "tie", track: this.desk.selected[0], point: picked.name });
    if (!sought?.at || sought.frame !== frame)
      return toast("It is not found here. Click where it lies, or select its track.", true);
    this.set({ sought: null });
    return this.desk.send("ties/spot", { point: picked.name, frame, x: sought.at[0], y: sought.at[1] });
  }

  draw({ set }) {
    const box = find("#tiehand");
    const { picked } = this;
    if (!this.other.isShown || !set) return box.replaceChildren();
    const { sought } = this.desk.state.ties;
    const [name] = this.desk.selected.length === 1 ? [this.nameOf(this.desk.selected[0])] : [];
    const line = element("p", "label my-1", picked ? this.says(picked, name, sought) : FIRST);
    const button = element(
      "button",
      "button tight w-full",
      name ? `Tie it to ${name} (Shift M)` : "Tie them (Shift M)",
    );
    button.disabled = !picked || !(name || sought?.at);
    button.addEventListener("click", () => this.tie());
    return box.replaceChildren(line, ...(picked && !name && sought?.patches ? [pair(sought)] : []), button);
  }

  says(picked, name, sought) {
    if (name) return `${picked.name} there; the track ${name} here.`;
    if (!sought) return `${picked.name} there. Click where it lies here, or select its track.`;
    if (sought.busy) return `Seeking ${picked.name} on this frame …`;
    if (sought.trouble) return sought.trouble;
    if (sought.placed) return `Placed where you clicked; the pictures are not alike (${sought.score.toFixed(2)}).`;
    if (!sought.at) return "Not found on this frame. Go to another one, or click about where it lies.";
    const look = sought.rivals === 1 ? "looks" : "look";
    const alike = sought.rivals
      ? ` ${counted(sought.rivals, "other place")} on its line ${look} as good: click the right one.`
      : "";
    return `Found, match ${sought.score.toFixed(2)}.${alike}`;
  }

  nameOf(id) {
    const { tracks } = this.desk.state;
    return tracks?.names[tracks.row.get(id)] ?? String(id);
  }
}

const FIRST = "Pick a spot in the right plate: it is sought in the left one.";

/** Both patches, turned and scaled alike. */
function pair({ patches, frame, there }) {
  const box = element("div", "tiepair");
  for (const [k, words] of [`there, ${there}`, `here, ${frame}`].entries()) {
    const one = element("figure");
    const image = element("img");
    Object.assign(image, { src: patches[k], alt: words });
    one.append(image, element("figcaption", "label fig", words));
    box.append(one);
  }
  return box;
}

/** The frame of those that are known that is nearest to one. */
function nearest(at, frame) {
  return Object.keys(at)
    .map(Number)
    .reduce((a, b) => (Math.abs(a - frame) <= Math.abs(b - frame) ? a : b));
}
