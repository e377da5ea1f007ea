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
        const words = `f ${a.figures.focal_mm.toFixed(2)} mm, ${a.recipe.lens_held ? "profile held" : a.recipe.distortion === "none" ? "no distortion" : "distortion free"}, ${a.recipe.camera_motion}${a.recipe.focal_px ? ", f known" : ""}${a.recipe.shared_with?.length ? `, one lens with ${a.recipe.shared_with.map((n) => n.split(" ")[0]).join(", ")}` : ""}${a.masks ? `, ${a.masks} mask${a.masks > 1 ? "s" : ""}` : ""}${a.stale ? ` · ${a.stale} since` : ""}`;
        card.append(tick, name, button, element("small", "", words));
        return card;
      }),
    );
  }
}
