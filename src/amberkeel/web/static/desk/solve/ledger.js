// The ledger: attempts with their figures.
import { element, find } from "../shell/dom.js";

const picked = new Set();

/** The ledger: attempts with their figures; one can be pinned, two put side by side. */
export function drawLedger(server, shot, pin) {
  const box = find("#ledger");
  find("#comparehint").textContent = server.attempts.length > 1 ? "· tick two to compare" : "";
  if (!server.attempts.length)
    box.replaceChildren(element("p", "label", "No attempts yet. Each solve is kept here beside the others."));
  else {
    box.replaceChildren(
      ...server.attempts.map((a) => {
        const card = element("div", `attempt${a.id === server.pinned ? " pinned" : ""}`);
        const tick = element("input");
        tick.type = "checkbox";
        tick.title = "Compare";
        tick.disabled = server.attempts.length < 2;
        tick.checked = picked.has(a.id);
        tick.addEventListener("change", () => {
          if (tick.checked) picked.add(a.id);
          else picked.delete(a.id);
          const [x, y] = [...picked].sort((m, n) => m - n);
          if (y) picked.clear();
          if (y) location.href = `/shots/${shot}/compare?a=${x}&b=${y}`;
        });
        const name = element("span", "", `Attempt ${a.number}`);
        name.append(element("span", "fig ml-2", a.figures.rms_px.toFixed(3)), element("span", "unit", "px"));
        const button = element(
          "button",
          `button quiet${a.id === server.pinned ? " on" : ""}`,
          a.id === server.pinned ? "pinned" : "pin",
        );
        button.disabled = a.id === server.pinned;
        button.addEventListener("click", () => pin(a.id));
        const words = wordsOf(a);
        card.append(tick, name, button, element("small", "", words));
        return card;
      }),
    );
  }
}

/** What an attempt found and was asked, in one line. */
function wordsOf({ figures, recipe, masks, stale, parent, changes }) {
  const distortion = recipe.distortion === "none" ? "no distortion" : "distortion free";
  const others = (recipe.shared_with ?? []).map((name) => name.split(" ")[0]).join(", ");
  const parts = [
    `f ${figures.focal_mm.toFixed(2)} mm`,
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
