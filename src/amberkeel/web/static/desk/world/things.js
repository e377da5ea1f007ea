// The list of what stands in the scene, and the fields of the chosen thing; shared by proxies and probe objects.
import { element, find, signButton } from "../shell/dom.js";
import { figureOf } from "./figures.js";

const SIGNS = {
  plane: "▱",
  wall: "▯",
  box: "◧",
  cylinder: "⬭",
  mesh: "△",
  card: "▦",
  cube: "◧",
  cone: "▲",
  person: "♟",
  lattice: "▩",
  post: "❘",
};

const LOOKS = ["wire", "solid", "checker"];
const PICTURED = [...LOOKS, "picture"];

export class Things {
  /** `part` is proxies or probes; `box` and `fields` are where the list and the fields are drawn. */
  constructor(desk, part, box, fields) {
    Object.assign(this, { desk, part, box, fields });
  }

  get all() {
    return Object.entries(this.desk.state.server?.scene?.[this.part] ?? {});
  }

  get chosen() {
    const { world } = this.desk.state;
    return this.all.find(([id]) => id === world.chosen);
  }

  choose(id) {
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, chosen: state.world.chosen === id ? null : id } });
  }

  send(things, label) {
    return this.desk.send("world/scene", { [this.part]: things, label });
  }

  change(id, fields, label) {
    return this.send({ [id]: fields }, label);
  }

  draw(empty) {
    const rows = this.all.map(([id, thing]) => this.row(id, thing));
    find(this.box).replaceChildren(...(rows.length ? rows : [element("p", "label my-1", empty)]));
    this.drawFields();
  }

  row(id, thing) {
    const row = element(
      "div",
      `thingrow${id === this.desk.state.world.chosen ? " sel" : ""}${thing.shown === false ? " off" : ""}`,
    );
    const look = element("select");
    look.setAttribute("aria-label", `Look of ${thing.name}`);
    const own = thing.look ?? (this.part === "probes" ? "solid" : "wire");
    for (const name of thing.texture ? PICTURED : LOOKS) {
      const option = element("option", "", name);
      option.selected = name === own;
      look.append(option);
    }
    look.addEventListener("click", (e) => e.stopPropagation());
    look.addEventListener("change", () => this.change(id, { look: look.value }, `Show ${thing.name} as ${look.value}`));
    row.append(element("i", "", SIGNS[thing.kind] ?? "·"), element("span", "truncate grow", thing.name), look);
    row.append(
      signButton(thing.shown === false ? "hidden" : "shown", "Show or hide it", () =>
        this.change(id, { shown: thing.shown === false }, `${thing.shown === false ? "Show" : "Hide"} ${thing.name}`),
      ),
      signButton("×", `Take ${thing.name} away`, () => this.send({ [id]: null }, `Take ${thing.name} away`)),
    );
    // At the press, not at the click: rows are made anew at every change, and a click needs both ends on one row.
    row.addEventListener("pointerdown", (e) => {
      if (e.button === 0 && !e.target.closest("button, select")) this.choose(id);
    });
    return row;
  }

  drawFields() {
    const box = find(this.fields);
    const found = this.chosen;
    if (!found) return box.replaceChildren();
    if (box.contains(document.activeElement)) return null;
    const [id, thing] = found;
    const name = element("input", "w-full");
    name.value = thing.name;
    name.maxLength = 80;
    name.setAttribute("aria-label", "Its name");
    name.addEventListener("change", () => this.change(id, { name: name.value }, `Call it ${name.value}`));
    const grid = element("div", "handgrid mt-1");
    grid.append(element("span"), ...["X", "Y", "Z"].map((axis) => element("span", "label", axis)));
    const unit = this.desk.state.attempt?.told?.from.scale ? "m" : "units";
    for (const [key, words, start] of [
      ["size", unit === "m" ? "size m" : "size", 1],
      ["position", "at", 0],
      ["turn", "turn °", 0],
    ])
      this.addRow(grid, id, thing, key, words, start);
    return box.replaceChildren(name, grid);
  }

  addRow(grid, id, thing, key, words, start) {
    grid.append(element("span", "label", words));
    const values = thing[key] ?? [start, start, start];
    values.forEach((value, k) => {
      const field = element("input", "fig");
      field.value = key === "turn" ? Number(value.toFixed(3)) : figureOf(value);
      field.title = String(value);
      field.setAttribute("aria-label", `${words} ${"XYZ"[k]}`);
      field.addEventListener("change", () => {
        const next = [...values];
        next[k] = key === "size" ? field.value : Number(field.value.replace(",", "."));
        this.change(id, { [key]: next }, `Change ${thing.name}`);
      });
      grid.append(field);
    });
  }
}
