// The proxies' bench: simple geometry for the set, drawn on the plate click by click, or made from points.
import { get, postForm, toast } from "../shell/api.js";
import { element, find, oneAtATime } from "../shell/dom.js";
import { smallOf } from "./figures.js";
import { Things } from "./things.js";

/** What each click says, by kind. */
const STEPS = {
  plane: ["one corner", "the edge's other end", "how deep it is"],
  wall: ["one end of its foot", "the other end", "how high it is"],
  box: ["one corner of its foot", "the front edge's other end", "how deep it is", "how high it is"],
  cylinder: ["the middle of its foot", "its rim", "how high it is"],
};

/** The sides that each kind has. */
const SIDES = {
  plane: ["width", "depth"],
  wall: ["width", "height"],
  box: ["width", "height", "depth"],
  cylinder: ["width", "height", "depth"],
};

/** Within how many screen pixels corners, points and edges are snapped to. */
const REACH = 9;

export class ProxiesBench {
  constructor(desk) {
    this.desk = desk;
    this.things = new Things(desk, "proxies", "#proxylist", "#proxyfields");
    this.at = null;
    this.report = { key: "", told: null };
    this.pairs = [];
    find("#importfile").addEventListener("change", (e) => this.bring(e.target));
    this.held = null;
    this.ask = oneAtATime(() => this.asked());
    this.carry = oneAtATime(() => this.carried());
    this.actions = [
      ...Object.keys(STEPS).map((kind) => ({
        id: `proxy-${kind}`,
        name: `World: draw a ${kind}`,
        run: () => this.begin(kind),
      })),
      { id: "proxy-mesh", name: "World: mesh the ground from the selected tracks", run: () => this.mesh("") },
      { id: "mesh-again", name: "World: make the mesh again", run: () => this.mesh(desk.state.world.chosen) },
      {
        id: "mesh-without",
        name: "World: make the mesh without what sticks out",
        run: () => this.mesh(desk.state.world.chosen, { without: true }),
      },
      { id: "mesh-more", name: "World: add the selected tracks to the mesh", run: () => this.meshWith(true) },
      { id: "mesh-less", name: "World: take the selected tracks out of the mesh", run: () => this.meshWith(false) },
      { id: "mesh-import", name: "World: bring in a mesh", run: () => find("#importfile").click() },
      { id: "mesh-pair", name: "World: pair the picked spot with the selected track", run: () => this.pair() },
      { id: "mesh-align", name: "World: align the mesh by its pairs", run: () => this.align(this.pairs) },
      { id: "mesh-refine", name: "World: bring the mesh to the points", run: () => this.align([]) },
      {
        id: "drop-tracks",
        name: "World: drop the selected tracks onto the scene, as anchored points",
        run: () =>
          desk.send("world/drop", {
            tracks: desk.selected,
            frame: desk.state.frame,
            sigma: find("#dropsigma").value,
            exact: find("#dropexact").checked,
          }),
      },
      {
        id: "proxy-ground",
        name: "World: the chosen proxy is the ground",
        run: () => desk.send("datum", { what: "proxy", name: desk.state.world.chosen ?? "" }),
      },
      {
        id: "proxy-edge",
        name: "World: the chosen proxy's edge is the heading",
        run: () =>
          desk.send("datum", { what: "edge", name: desk.state.world.chosen ?? "", axis: find("#edgeaxis").value }),
      },
      {
        id: "proxy-side",
        name: "World: a measured length of the chosen proxy's side",
        run: () =>
          desk.send("datum", {
            what: "side",
            name: desk.state.world.chosen ?? "",
            axis: find("#proxyside").value,
            distance: find("#sidelength").value,
            unit: find("#sideunit").value,
          }),
      },
    ];
  }

  get drawing() {
    return this.desk.state.world.draft;
  }

  set(change) {
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, ...change } });
  }

  begin(kind) {
    const { state } = this.desk;
    this.desk.goStage("world");
    const same = state.world.draft?.kind === kind;
    this.set({ bench: "proxies", draft: same ? null : { kind, clicks: [], solid: null } });
    this.desk.viewport.canvas.style.cursor = same ? "" : "crosshair";
  }

  cancel() {
    if (!this.drawing) return false;
    const clicks = this.drawing.clicks.slice(0, -1);
    // The last click is taken back first; then drawing ends.
    if (this.drawing.clicks.length) this.set({ draft: { ...this.drawing, clicks, solid: null } });
    else {
      this.set({ draft: null });
      this.desk.viewport.canvas.style.cursor = "";
    }
    return true;
  }

  query(clicks) {
    const list = clicks.map(([f, x, y]) => `${f}:${x.toFixed(2)}:${y.toFixed(2)}`).join(",");
    const reach = (REACH / this.desk.viewport.scale).toFixed(2);
    return this.desk.at(`world/draft.json?kind=${this.drawing.kind}&reach=${reach}&clicks=${list}`);
  }

  move(_event, at) {
    if (this.held) {
      this.held.at = [this.desk.state.frame, ...this.desk.viewport.toPlate(...at)];
      return this.carry();
    }
    if (!this.drawing) return null;
    const [x, y] = this.desk.viewport.toPlate(...at);
    this.at = [this.desk.state.frame, x, y];
    return this.ask();
  }

  async asked() {
    const draft = this.drawing;
    if (!draft) return;
    const found = await get(this.query([...draft.clicks, this.at])).catch((error) => ({ trouble: error.message }));
    if (this.drawing?.clicks === draft.clicks) {
      this.set({
        draft: { ...draft, solid: found.solid ?? null, on: found.on, trouble: found.trouble, hover: this.at },
      });
    }
  }

  down(_event, at) {
    if (!this.drawing) return this.hold(at) || this.pick(at);
    const [x, y] = this.desk.viewport.toPlate(...at);
    const clicks = [...this.drawing.clicks, [this.desk.state.frame, x, y]];
    if (clicks.length < STEPS[this.drawing.kind].length) {
      this.set({ draft: { ...this.drawing, clicks } });
    } else this.finish(clicks);
    return true;
  }

  /** Hold the chosen proxy where it is pressed, to carry it along the surface under it. */
  hold(at) {
    const { state, viewport } = this.desk;
    const found = this.things.chosen;
    if (!found || found[1].locked || viewport.over.hit(at, "proxies") !== found[0]) return false;
    const [x, y] = viewport.toPlate(...at);
    this.held = { id: found[0], from: null, at: [state.frame, x, y], thing: found[1], by: null };
    this.carry();
    return true;
  }

  async carried() {
    const { held } = this;
    if (!held) return;
    const [frame, x, y] = held.at;
    const place = `frame=${frame}&x=${x.toFixed(2)}&y=${y.toFixed(2)}&reach=0&without=${held.id}`;
    const found = await get(this.desk.at(`world/cast.json?${place}`)).catch(() => null);
    if (!found?.xyz || this.held !== held) return;
    held.from ??= found.xyz;
    held.by = found.xyz.map((v, k) => v - held.from[k]);
    this.set({ ghost: { id: held.id, by: held.by } });
  }

  async up() {
    const { held } = this;
    this.held = null;
    if (!held?.by || Math.hypot(...held.by) < 1e-9) return this.set({ ghost: null });
    const position = (held.thing.position ?? [0, 0, 0]).map((v, k) => v + held.by[k]);
    await this.things.change(held.id, { position }, `Move ${held.thing.name}`);
    return this.set({ ghost: null });
  }

  /** Choose the proxy under the pointer; where there is none the tracks take the click. */
  pick(at) {
    if (!this.things.all.length || this.desk.state.tool !== "pick") return false;
    if (this.desk.viewport.nearest(at).length) return false;
    const [x, y] = this.desk.viewport.toPlate(...at);
    const { frame } = this.desk.state;
    get(this.desk.at(`world/cast.json?frame=${frame}&x=${x.toFixed(2)}&y=${y.toFixed(2)}&reach=0`))
      .then((found) => this.set({ chosen: found.on === "surface" ? found.id : null }))
      .catch((error) => toast(error.message, true));
    return true;
  }

  async finish(clicks) {
    const { kind } = this.drawing;
    const found = await get(this.query(clicks)).catch((error) => ({ trouble: error.message }));
    if (!found.thing) return toast(found.trouble ?? "That is no shape.", true);
    this.set({ draft: { kind, clicks: [], solid: null } });
    await this.things.send({ new: { ...found.thing, kind } }, `Draw a ${kind}`);
    const newest = this.things.all.at(-1)?.[0];
    return this.set({ chosen: newest ?? null });
  }

  meshFields() {
    return {
      longest: find("#meshlongest").value,
      extend: find("#meshextend").value,
      smooth: find("#meshsmooth").checked,
      seen_from: find("#meshseen").value ? this.desk.state.frame : null,
      above: !find("#meshseen").value,
    };
  }

  mesh(id, more = {}) {
    if (id === null) return toast("Choose a mesh in the list first.", true);
    return this.meshed(id, { id, tracks: id ? [] : this.desk.selected, ...this.meshFields(), ...more });
  }

  async meshed(id, body) {
    const before = this.things.all.length;
    await this.desk.send("world/mesh", body);
    if (!id && this.things.all.length > before) this.set({ chosen: this.things.all.at(-1)[0] });
  }

  meshWith(adding) {
    const found = this.things.chosen;
    if (found?.[1].kind !== "mesh") return toast("Choose a mesh in the list first.", true);
    const [id, thing] = found;
    const own = new Set(thing.tracks ?? []);
    for (const track of this.desk.selected) own[adding ? "add" : "delete"](track);
    return this.mesh(id, { tracks: [...own] });
  }

  bring(input) {
    const form = new FormData();
    form.append("file", input.files[0]);
    form.append("unit", find("#importunit").value);
    form.append("up", find("#importup").value);
    form.append("revision", this.desk.revision);
    input.value = "";
    return this.desk.act(async () => {
      await this.desk.answered(await postForm(this.desk.at("world/import"), form));
      this.set({ chosen: this.things.all.at(-1)?.[0] ?? null });
    });
  }

  pair() {
    const { world } = this.desk.state;
    const [track] = this.desk.selected;
    if (!world.picked || track === undefined || this.desk.selected.length > 1)
      return toast("Alt-click a spot of the mesh in 3D, then select the one track that lies there.", true);
    this.pairs = [...this.pairs, { xyz: world.picked, track }];
    return this.set({ picked: null });
  }

  async align(pairs) {
    const id = this.desk.state.world.chosen;
    await this.desk.send("world/align", {
      id: id ?? "",
      pairs,
      tracks: pairs.length ? [] : this.desk.selected,
      scaled: find("#alignscaled").checked,
    });
    this.pairs = [];
    this.draw();
  }

  draw() {
    const { world } = this.desk.state;
    for (const kind of Object.keys(STEPS)) {
      find(`[data-act="proxy-${kind}"]`).classList.toggle("on", world.draft?.kind === kind);
    }
    const { draft } = world;
    find("#drafthint").textContent = draft
      ? `Click ${STEPS[draft.kind][draft.clicks.length]}. Corners, points and edges near by are snapped to. ` +
        "Escape takes a click back."
      : "";
    this.things.draw(
      "No proxies yet. Draw one on the plate against the ground, or mesh the ground from selected tracks.",
    );
    const found = this.things.chosen;
    const isBrought = found?.[1].kind === "mesh" && !(found[1].tracks ?? []).length;
    find("#meshalign").hidden = !isBrought;
    find("#pairsays").textContent = world.picked
      ? "A spot is picked: select the track that lies there, then Pair."
      : `${this.pairs.length} pairs. Alt-click a spot of the mesh in 3D to begin one.`;
    const isMesh = found?.[1].kind === "mesh" && (found[1].tracks ?? []).length > 0;
    find("#meshedit").hidden = !isMesh;
    find("#proxyground").hidden = !found;
    this.drawSides(found?.[1].kind);
    if (isMesh) this.tell(found);
  }

  /** The sides of the chosen proxy that can be measured. */
  drawSides(kind) {
    const sides = SIDES[kind] ?? [];
    find("#proxyuse").hidden = !sides.length;
    const box = find("#proxyside");
    if (box.childElementCount === sides.length && box.dataset.kind === kind) return;
    box.dataset.kind = kind ?? "";
    box.replaceChildren(...sides.map((side) => element("option", "", side)));
  }

  /** Say how the chosen mesh lies with its points; asked for once for each state of it. */
  async tell([id, thing]) {
    const { attempt } = this.desk.state;
    const key = JSON.stringify([id, thing, attempt?.id]);
    if (key !== this.report.key) {
      this.report = { key, told: null };
      const told = await get(this.desk.at(`world/mesh/${id}.json`)).catch((error) => ({ trouble: error.message }));
      if (this.report.key !== key) return;
      this.report.told = told;
    }
    this.drawReport(this.report.told);
  }

  drawReport(told) {
    const box = find("#meshreport");
    if (!told || told.trouble) return box.replaceChildren(element("p", "label", told?.trouble ?? ""));
    const scaled = Boolean(this.desk.state.attempt?.told?.from.scale);
    const [rms, unit] = smallOf(told.rms ?? 0, scaled);
    const longest = told.longest.toPrecision(2);
    const words = `${told.points} points, ${told.triangles} triangles, RMS ${rms} ${unit}, edges up to ${longest}`;
    const rows = [element("p", "fig my-1", words)];
    if (told.sticks_out.length) {
      const names = new Map(this.desk.state.tracks?.ids.map((id, t) => [id, this.desk.state.tracks.names[t]]));
      const some = told.sticks_out.slice(0, 4).map((id) => names.get(id) ?? id);
      const more = told.sticks_out.length > 4 ? ` and ${told.sticks_out.length - 4} more` : "";
      const box2 = element("p", "say my-1", `Sticking out: ${some.join(", ")}${more}. `);
      const see = element("button", "button tiny", "Select them");
      see.addEventListener("click", () => this.desk.store.set({ selection: new Set(told.sticks_out) }));
      const out = element("button", "button tiny", "Leave them out");
      out.addEventListener("click", () => this.mesh(this.desk.state.world.chosen, { without: true }));
      box2.append(see, " ", out);
      rows.push(box2);
    }
    return box.replaceChildren(...rows);
  }
}
