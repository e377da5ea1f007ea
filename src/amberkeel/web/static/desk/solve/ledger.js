// The ledger: attempts with their figures.
import { element, find } from "../shell/dom.js";

const picked = new Set();
let open = null;

/** The ledger: attempts with their figures; one can be pinned, named, gone back to or deleted, two put side by side.
 *
 * `act` has pin(id), call(values), back(id) and refine(id).
 */
export function drawLedger(server, shot, act) {
  const box = find("#ledger");
  find("#comparehint").textContent = server.attempts.length > 1 ? "· tick two to compare" : "";
  if (box.contains(document.activeElement) && document.activeElement.matches("input, textarea")) return;
  const again = () => drawLedger(server, shot, act);
  if (server.attempts.length) box.replaceChildren(...server.attempts.map((a) => card(a, server, shot, act, again)));
  else box.replaceChildren(element("p", "label", "No attempts yet. Each solve is kept here beside the others."));
}

/** One attempt; its fields are open below its name when it was clicked. */
function card(a, server, shot, act, again) {
  const pinned = a.id === server.pinned;
  const out = element("div", `attempt${pinned ? " pinned" : ""}`);
  const name = element("button", "name", a.name || `Attempt ${a.number}`);
  name.title = "Name it, write a note, go back to it, delete it";
  name.setAttribute("aria-expanded", open === a.id);
  name.append(element("span", "fig ml-2", a.figures.rms_px.toFixed(3)), element("span", "unit", "px"));
  name.addEventListener("click", () => {
    open = open === a.id ? null : a.id;
    again();
  });
  const pin = element("button", `button quiet${pinned ? " on" : ""}`, pinned ? "pinned" : "pin");
  pin.disabled = pinned;
  pin.addEventListener("click", () => act.pin(a.id));
  out.append(tick(a, server, shot), name, pin, element("small", "", `${a.name ? `${a.number}: ` : ""}${wordsOf(a)}`));
  if (a.note && open !== a.id) out.append(element("small", "note", a.note));
  if (open === a.id) out.append(fields(a, pinned, act));
  return out;
}

/** The box that picks an attempt for comparing; the second one picked opens the page. */
function tick(a, server, shot) {
  const out = element("input");
  out.type = "checkbox";
  out.title = "Compare";
  out.disabled = server.attempts.length < 2;
  out.checked = picked.has(a.id);
  out.addEventListener("change", () => {
    if (out.checked) picked.add(a.id);
    else picked.delete(a.id);
    const [x, y] = [...picked].sort((m, n) => m - n);
    if (y) picked.clear();
    if (y) location.href = `/shots/${shot}/compare?a=${x}&b=${y}`;
  });
  return out;
}

function fields(a, pinned, act) {
  const out = element("div", "onit");
  const name = element("input");
  const note = element("textarea");
  Object.assign(name, { value: a.name, maxLength: 80, placeholder: `Attempt ${a.number}` });
  Object.assign(note, {
    value: a.note,
    maxLength: 400,
    rows: 2,
    placeholder: "A note: why it was tried, what it showed",
  });
  name.setAttribute("aria-label", `Name of attempt ${a.number}`);
  note.setAttribute("aria-label", `Note on attempt ${a.number}`);
  name.addEventListener("change", () => act.call({ attempt: a.id, name: name.value.trim() }));
  note.addEventListener("change", () => act.call({ attempt: a.id, note: note.value.trim() }));
  name.addEventListener("keydown", (event) => event.key === "Enter" && name.blur());
  const row = element("div", "flex gap-1 flex-wrap");
  for (const [words, why, run, off] of [
    ["Refine", "Begin the next solve from this attempt", () => act.refine(a.id), false],
    [
      "Go back to it",
      "Tracks, masks, lens and what is known as this attempt was made from",
      () => act.back(a.id),
      false,
    ],
    [
      "Delete",
      "Take it out of the ledger; undo brings it back",
      () => act.call({ attempt: a.id, removed: true }),
      pinned,
    ],
  ]) {
    const button = element("button", "button quiet", words);
    button.title = off ? "Pin another attempt first" : why;
    button.disabled = off;
    button.addEventListener("click", run);
    row.append(button);
  }
  if (a.figures.begun) out.append(element("small", "", a.figures.begun));
  out.append(name, note, row, element("small", "", `${a.created.replace("T", " ")}, ${took(a.figures.seconds)}`));
  return out;
}

/** How long a solve took, in words. */
function took(seconds) {
  return seconds ? `solved in ${seconds < 10 ? seconds.toFixed(1) : Math.round(seconds)} s` : "UTC";
}

/** What an attempt found and was asked, in one line. */
function wordsOf({ figures, recipe, masks, stale, parent, changes }) {
  const distortion = recipe.distortion === "none" ? "no distortion" : "distortion free";
  const others = (recipe.shared_with ?? []).map((name) => name.split(" ")[0]).join(", ");
  const parts = [
    `f ${figures.focal_mm.toFixed(2)} mm`,
    figures.stopped ? "stopped early" : "",
    recipe.lens_held ? "profile held" : distortion,
    figures.camera_motion === "free" ? "" : figures.camera_motion,
    figures.readout ? `readout ${figures.readout.toFixed(2)}` : "",
    recipe.focal_px ? "f known" : "",
    others ? `one lens with ${others}` : "",
    masks ? `${masks} mask${masks > 1 ? "s" : ""}` : "",
  ];
  const came = [parent ? `refines attempt ${parent}` : "", ...changes].filter(Boolean).join(", ");
  return `${parts.filter(Boolean).join(", ")}${came ? ` · ${came}` : ""}${stale ? ` · ${stale} since` : ""}`;
}
