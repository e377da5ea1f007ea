// Filters that select tracks which may lie: each with its limit, a live count, and a preview on the plate.
import { element } from "../shell/dom.js";

/** key, words, unit, starting limit, and whether a track's value is on the wrong side of a limit. */
export const FILTERS = [
  ["length", "Shorter than", "frames", 10, (v, limit) => v < limit],
  ["jump", "Jumps over", "px", 1.5, (v, limit) => v > limit],
  ["restless", "Restless, times others", "×", 5, (v, limit) => v > limit],
  ["edge", "Slides on an edge, over", ": 1", 5, (v, limit) => v > limit],
  ["stray", "Against the set's motion", "px", 1, (v, limit) => v > limit],
  ["mask", "Near a mask, under", "px", 5, (v, limit) => v < limit],
  ["twin", "Doubles of a longer one", "", null, (v) => v > 0],
  ["score", "Match below", "", 0.9, (v, limit) => v < limit],
  ["highlight", "On a highlight, over", "%", 15, (v, limit) => 100 * v > limit],
];

const limits = new Map(FILTERS.map(([key, , , start]) => [key, start]));

/** Ids of the tracks that a filter selects. */
export function caught(judged, key) {
  const wrong = FILTERS.find((f) => f[0] === key)[4];
  return judged ? judged.ids.filter((_, k) => wrong(judged[key][k], limits.get(key))) : [];
}

/** The single samples that jump, by track id. */
export function jumpSamples(judged, tracks) {
  const limit = limits.get("jump");
  const out = new Map();
  let s = 0;
  judged.ids.forEach((id) => {
    const t = tracks.row.get(id);
    const count = t === undefined ? 0 : tracks.first[t + 1] - tracks.first[t];
    for (let k = 0; k < count; k += 1, s += 1) {
      if (judged.jumps[s] <= limit) continue;
      if (!out.has(id)) out.set(id, new Set());
      out.get(id).add(tracks.frames[tracks.first[t] + k]);
    }
  });
  return out;
}

/** Draw the filters' rows. `on` has select(ids, add), preview(ids) and samples(). */
export function drawFilters(judged, on) {
  const box = document.querySelector("#filters");
  if (box.childElementCount !== FILTERS.length) box.replaceChildren(...FILTERS.map((f) => makeRow(f, on)));
  for (const [key] of FILTERS) {
    const ids = caught(judged, key);
    const button = box.querySelector(`[data-filter="${key}"] button`);
    button.textContent = judged ? ids.length : "…";
    button.classList.toggle("some", ids.length > 0);
    button.disabled = !ids.length;
  }
}

function makeRow([key, words, unit], on) {
  const row = element("div", "filter");
  row.dataset.filter = key;
  const field = element("input", "fig");
  field.value = limits.get(key) ?? "";
  field.hidden = limits.get(key) === null;
  field.setAttribute("aria-label", `${words}, ${unit}`);
  field.title = unit;
  field.addEventListener("input", () => {
    const value = Number(field.value.replace(",", "."));
    if (field.value.trim() === "" || !Number.isFinite(value)) return;
    limits.set(key, value);
    on.changed();
  });
  const button = element("button", "button fig", "…");
  button.title = "Select them; with Shift, add them";
  button.addEventListener("click", (e) => on.select(key, e.shiftKey));
  row.addEventListener("pointerenter", () => on.preview(key));
  row.addEventListener("pointerleave", () => on.preview(null));
  const name = element("span", "", unit && key !== "twin" ? `${words} (${unit})` : words);
  name.title = name.textContent;
  row.append(name, ...(limits.get(key) === null ? [element("span")] : [field]), button);
  return row;
}

/** Draw which tracks seem to have come back. `join` joins a pair, `show` selects it. */
export function drawReturns(judged, show, join) {
  const box = document.querySelector("#returns");
  const pairs = judged?.returns ?? [];
  if (!pairs.length) return box.replaceChildren();
  const row = element("div", "flex items-center gap-1.5 my-1");
  const next = pairs[0];
  const words = element(
    "span",
    "label grow",
    `${pairs.length} seem to have come back; closest ${next[2].toFixed(1)} px`,
  );
  const see = element("button", "button quiet", "See");
  see.addEventListener("click", () => show(next));
  const tie = element("button", "button", "Join");
  tie.addEventListener("click", () => join(next));
  row.append(words, see, tie);
  return box.replaceChildren(row);
}
