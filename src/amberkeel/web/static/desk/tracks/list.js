// The list of tracks: only rows in sight exist, so thousands stay quick.
import { INK, ramp } from "../shell/colour.js";
import { standing } from "./index.js";

const ROW = 24;
const SIGNS = { active: "○", check: "◌", excluded: "×" };

/** One sigma of a track's depth along its ray, as a share of it. */
function depthWords(attempt, id, stands) {
  if (!attempt || stands !== "active") return "";
  const share = attempt.depth.get(id);
  return share === undefined ? "no depth" : `±${(100 * share).toPrecision(2)} %`;
}

export class TrackList {
  constructor(box, store) {
    this.box = box;
    this.store = store;
    this.order = [];
    this.last = -1;
    this.inner = document.createElement("div");
    box.append(this.inner);
    box.addEventListener("scroll", () => this.fill());
    new ResizeObserver(() => this.fill()).observe(box);
    // At the press, not at the click: rows are made anew at every change, and a click needs both ends on one row.
    box.addEventListener("pointerdown", (e) => e.button === 0 && this.press(e));
    for (const id of ["#search", "#sort"]) document.querySelector(id).addEventListener("input", () => this.refresh());
  }

  /** Sort and filter anew. */
  refresh() {
    const { tracks, attempt, only } = this.store.state;
    const words = document.querySelector("#search").value.trim().toLowerCase();
    const sort = document.querySelector("#sort").value;
    const all = tracks
      ? tracks.ids
          .map((_, t) => t)
          .filter((t) => !words || tracks.names[t].toLowerCase().includes(words))
          .filter((t) => !only || only.has(tracks.ids[t]))
      : [];
    const length = (t) => tracks.first[t + 1] - tracks.first[t];
    const rms = (t) =>
      (attempt?.rms.get(tracks.ids[t]) ?? -1) - (standing(tracks, t, attempt) === "excluded" ? 1e6 : 0);
    if (sort === "worst") all.sort((a, b) => rms(b) - rms(a));
    const serves = (t) => standing(tracks, t, attempt) === "active";
    const loose = (t) => (serves(t) ? (attempt?.depth.get(tracks.ids[t]) ?? Number.MAX_VALUE) : -1);
    if (sort === "loose") all.sort((a, b) => loose(b) - loose(a));
    if (sort === "long") all.sort((a, b) => length(b) - length(a));
    this.order = all;
    this.inner.style.height = `${all.length * ROW}px`;
    this.fill();
  }

  fill() {
    const { tracks, attempt, selection } = this.store.state;
    if (!tracks) return;
    const from = Math.max(0, Math.floor(this.box.scrollTop / ROW) - 4);
    const to = Math.min(this.order.length, from + Math.ceil(this.box.clientHeight / ROW) + 8);
    const rows = [];
    const locked = new Set(tracks.locked);
    const groups = this.store.state.server?.groups ?? {};
    const byDepth = document.querySelector("#sort").value === "loose";
    for (let k = from; k < to; k += 1) {
      const t = this.order[k];
      const stands = standing(tracks, t, attempt);
      const rms = attempt?.rms.get(tracks.ids[t]);
      const row = document.createElement("div");
      row.className = `row${selection.has(tracks.ids[t]) ? " sel" : ""}${stands === "excluded" ? " off" : ""}`;
      row.style.top = `${k * ROW}px`;
      row.dataset.at = k;
      row.title = attempt?.reasons[tracks.ids[t]] || (stands === "check" ? "check track: withheld from the solve" : "");
      const sign =
        tracks.kinds[t] === "hand" && stands === "active"
          ? "●"
          : tracks.kinds[t] === "tag" && stands === "active"
            ? "□"
            : SIGNS[stands];
      const cells = [
        sign,
        `${tracks.names[t]}${locked.has(tracks.ids[t]) ? " ⚿" : ""}`,
        `${tracks.first[t + 1] - tracks.first[t]} fr`,
        byDepth ? depthWords(attempt, tracks.ids[t], stands) : rms == null ? "" : `${rms.toFixed(2)} px`,
      ];
      for (const [n, text] of cells.entries()) {
        const cell = document.createElement("span");
        cell.textContent = text;
        if (n) cell.className = "fig";
        if (n === 1) cell.style.textAlign = "left";
        if (n === 0 && groups[tracks.groups[t]]) cell.style.color = groups[tracks.groups[t]].colour;
        if (n === 3 && rms != null && !byDepth) cell.style.color = stands === "excluded" ? INK.muted : ramp(rms / 0.08);
        row.append(cell);
      }
      rows.push(row);
    }
    this.inner.replaceChildren(...rows);
  }

  /** Scroll to what was selected elsewhere, where none of it is in sight. */
  reveal() {
    const { tracks, selection } = this.store.state;
    if (!tracks || !selection.size) return;
    const at = this.order.map((t, k) => (selection.has(tracks.ids[t]) ? k : -1)).filter((k) => k >= 0);
    const [from, to] = [this.box.scrollTop / ROW, (this.box.scrollTop + this.box.clientHeight) / ROW - 1];
    if (!at.length || at.some((k) => k >= from && k <= to)) return;
    this.box.scrollTop = Math.max(0, at[0] * ROW - this.box.clientHeight / 2);
  }

  press(event) {
    const row = event.target.closest(".row");
    if (!row) return;
    const { tracks, selection } = this.store.state;
    const at = Number(row.dataset.at);
    const id = tracks.ids[this.order[at]];
    let next = new Set([id]);
    if (event.shiftKey && this.last >= 0) {
      const [a, b] = [Math.min(this.last, at), Math.max(this.last, at)];
      next = new Set([...selection, ...this.order.slice(a, b + 1).map((t) => tracks.ids[t])]);
    } else if (event.ctrlKey || event.metaKey) {
      next = new Set(selection);
      if (!next.delete(id)) next.add(id);
    }
    this.last = at;
    this.store.set({ selection: next });
    this.show(this.order[at]);
  }

  /** Move the playhead to where a track lives, if it does not live here. */
  show(t) {
    const { tracks, frame } = this.store.state;
    const [from, to] = [tracks.frames[tracks.first[t]], tracks.frames[tracks.first[t + 1] - 1]];
    if (frame < from || frame > to) this.store.set({ frame: Math.round((from + to) / 2) });
  }
}
