// Changes to tracks: cut, trim, split, join, fill, rename, group, lock.
import { toast } from "../shell/api.js";
import { find } from "../shell/dom.js";

const COLOUR = "#8fd0a0";

export class TrackChanges {
  constructor(desk) {
    this.desk = desk;
    find("#askvalue").addEventListener("keydown", (e) => {
      if (e.key === "Enter") {
        e.preventDefault();
        find("#ask").close("yes");
      }
    });
    const split = () => this.change("split", { frame: desk.state.frame });
    this.actions = [
      { id: "weed-cut", name: "Tracks: cut the chosen samples or frames", run: () => this.cut() },
      { id: "weed-fill", name: "Tracks: fill gaps on the chosen frames", run: () => this.inRange("fill") },
      { id: "weed-trim", name: "Tracks: keep the chosen frames only", run: () => this.inRange("trim") },
      { id: "weed-split", name: "Tracks: split before this frame", run: split },
      { id: "weed-join", name: "Tracks: join the selected pieces", keys: "J", run: () => this.change("join") },
      { id: "weed-rename", name: "Tracks: rename", run: () => this.rename() },
      { id: "weed-group", name: "Tracks: group with a colour", keys: "G", run: () => this.group() },
      { id: "weed-lock", name: "Tracks: lock or unlock", keys: "L", run: () => this.lock() },
    ];
  }

  /** Change tracks; what was chosen in the curves is forgotten. */
  async change(what, body = {}) {
    await this.desk.send("tracks/change", { what, tracks: this.desk.selected, ...body });
    this.desk.store.set({ samples: new Map() });
  }

  /** Cut the samples chosen in the curves, or the chosen frames of the selected tracks. */
  cut() {
    const { state } = this.desk;
    const samples = Object.fromEntries([...state.samples].map(([id, frames]) => [id, [...frames]]));
    if (state.samples.size) return this.change("cut", { samples });
    if (!state.range) {
      return toast("Drag a box around samples in the curves, or choose frames in a lane (Shift and drag).", true);
    }
    const [a, b] = state.range;
    const frames = Array.from({ length: b - a + 1 }, (_, k) => a + k);
    return this.change("cut", { samples: Object.fromEntries(this.desk.selected.map((id) => [id, frames])) });
  }

  inRange(what) {
    const { range } = this.desk.state;
    if (!range) return toast("Choose frames first: drag in a lane with Shift.", true);
    return this.change(what, { first: range[0], last: range[1] });
  }

  async rename() {
    const { tracks, selection } = this.desk.state;
    if (selection.size !== 1) return toast("Select one track to name.", true);
    const answer = await ask("Name of the track", tracks.names[tracks.row.get(this.desk.selected[0])]);
    return answer && this.change("rename", { name: answer[0] });
  }

  async group() {
    const { tracks, selection, server } = this.desk.state;
    if (!selection.size) return toast("Select the tracks to group.", true);
    const of = tracks.groups[tracks.row.get(this.desk.selected[0])];
    const colour = server.groups[of]?.colour ?? COLOUR;
    const answer = await ask("Group (empty takes them out of theirs)", of || "", colour);
    return answer && this.change("group", { name: answer[0], colour: answer[1] });
  }

  lock() {
    const locked = new Set(this.desk.state.tracks?.locked ?? []);
    return this.change("lock", { locked: !this.desk.selected.every((id) => locked.has(id)) });
  }
}

/** Ask for a name, and a colour where one is wanted; gives [name, colour], or null. */
function ask(title, value, colour) {
  const dialog = find("#ask");
  find("#asktitle").textContent = title;
  find("#askvalue").value = value;
  find("#askcolour").hidden = !colour;
  find("#askcolour").value = colour || COLOUR;
  dialog.returnValue = "";
  dialog.showModal();
  find("#askvalue").select();
  return new Promise((done) => {
    const closed = () =>
      done(dialog.returnValue === "yes" ? [find("#askvalue").value, find("#askcolour").value] : null);
    dialog.addEventListener("close", closed, { once: true });
  });
}
