// The points' bench: points selected by distance to the ground, by sigma, by group; what is shown of them.
import { toast } from "../shell/api.js";
import { element, find, typed } from "../shell/dom.js";
import { figureOf, smallOf } from "./figures.js";

export class PointsBench {
  constructor(desk) {
    this.desk = desk;
    this.actions = [
      { id: "points-ground", name: "World: select the points near the ground", run: () => this.nearGround() },
      { id: "points-sigma", name: "World: select the points of large sigma", run: () => this.loose() },
    ];
    find("#pointcolour").addEventListener("change", (e) => desk.store.set({ pointColour: e.target.value }));
  }

  get points() {
    return (this.desk.state.attempt?.world.points ?? []).filter((p) => p.state !== "excluded");
  }

  choose(found, none) {
    if (!found.length) return toast(none, true);
    return this.desk.store.set({ selection: new Set(found.map((p) => p.id)) });
  }

  nearGround() {
    const within = typed(find("#groundwithin").value);
    if (!(within > 0)) return toast("Type how far from the ground, such as 0.02.", true);
    return this.choose(
      this.points.filter((p) => Math.abs(p.xyz[1]) <= within),
      "No point lies that near to the ground.",
    );
  }

  loose() {
    const most = typed(find("#sigmaover").value);
    if (!(most > 0)) return toast("Type a sigma, such as 0.1.", true);
    return this.choose(
      this.points.filter((p) => p.sigma_along == null || p.sigma_along > most),
      "No point has so large a sigma.",
    );
  }

  draw() {
    const { attempt, selection, only, server, tracks } = this.desk.state;
    const scaled = Boolean(attempt?.told?.from.scale);
    const unit = scaled ? "m" : "units";
    for (const box of document.querySelectorAll("[data-unit]")) box.textContent = unit;
    find("#onlysays").textContent = only
      ? `${only.size} points are shown alone, here, on the plate and in the list.`
      : "";
    const chosen = this.points.filter((p) => selection.has(p.id)).slice(0, 40);
    find("#chosenpoints").replaceChildren(
      ...(chosen.length
        ? chosen.map((p) => this.row(p, scaled))
        : [element("p", "label my-1", "Select points in 3D: a click, a box or a lasso; Shift adds, Ctrl takes away.")]),
    );
    const groups = Object.entries(server?.groups ?? {});
    find("#pointgroups").replaceChildren(
      ...groups.map(([name, group]) => {
        const chip = element("button", "chip", name);
        chip.style.color = group.colour;
        chip.title = "Select its points";
        chip.addEventListener("click", () =>
          this.desk.store.set({ selection: new Set(tracks.ids.filter((_, t) => tracks.groups[t] === name)) }),
        );
        return chip;
      }),
    );
  }

  row(p, scaled) {
    const row = element("div", "pointrow spot");
    const patch = element("img");
    patch.src = this.desk.at(`world/patch/${p.id}.png`);
    patch.loading = "lazy";
    patch.alt = "";
    const [sigma, unit] = p.sigma_along == null ? ["?", ""] : smallOf(p.sigma_along, scaled);
    row.append(
      patch,
      element("b", "truncate", p.track),
      element("span", "fig", `±${sigma} ${unit}`),
      element("span", "fig label", p.xyz.map(figureOf).join("  ")),
    );
    return row;
  }
}
