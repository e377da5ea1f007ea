// The probe objects' bench: test geometry put in by a click, to see whether it sticks.
import { get, postForm, toast } from "../shell/api.js";
import { find, oneAtATime } from "../shell/dom.js";
import { reachOf } from "../viewport/overglass.js";
import { LIGHT } from "./solids.js";
import { Things } from "./things.js";

const KINDS = ["card", "cube", "cone", "person", "post", "lattice"];
const REACH = 9;

export class ProbesBench {
  constructor(desk) {
    this.desk = desk;
    this.things = new Things(desk, "probes", "#probelist", "#probefields");
    this.held = null;
    this.ask = oneAtATime(() => this.carried());
    this.actions = [
      ...KINDS.map((kind) => ({ id: `probe-${kind}`, name: `World: put in a ${kind}`, run: () => this.begin(kind) })),
      { id: "probe-points", name: "World: a solid on every point", keys: "Shift Q", run: () => this.onPoints() },
      { id: "probe-row", name: "World: a row of posts along the path", run: () => desk.send("world/posts", {}) },
      { id: "probe-import", name: "World: put in a mesh from a file", run: () => find("#probefile").click() },
    ];
    find("#probefile").addEventListener("change", (e) => this.bring(e.target));
    for (const id of ["#lightbearing", "#lightheight"]) {
      find(id).addEventListener("input", () => this.turnLight());
      find(id).addEventListener("change", () =>
        desk.send("world/scene", { light: this.light(), label: "Turn the light" }),
      );
    }
    find("#pointsize").addEventListener(
      "input",
      () => this.desk.state.world.onPoints && this.set({ onPoints: this.size() }),
    );
  }

  set(change) {
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, ...change } });
  }

  light() {
    return [Number(find("#lightbearing").value), Number(find("#lightheight").value)];
  }

  turnLight() {
    const { store, state } = this.desk;
    if (state.solids) store.set({ solids: { ...state.solids, light: this.light() } });
  }

  /** Size of the solid on each point: a share of the scene's reach, by the slider. */
  size() {
    const { attempt } = this.desk.state;
    return (attempt ? reachOf(attempt.world) : 1) * 10 ** (Number(find("#pointsize").value) / 50 - 3);
  }

  onPoints() {
    this.desk.goStage("world");
    this.set({ bench: "probes", onPoints: this.desk.state.world.onPoints ? 0 : this.size() });
  }

  bring(input) {
    const form = new FormData();
    form.append("file", input.files[0]);
    form.append("unit", find("#probeunit").value);
    form.append("up", find("#probeup").value);
    form.append("frame", this.desk.state.frame);
    form.append("revision", this.desk.revision);
    input.value = "";
    return this.desk.act(async () => {
      await this.desk.answered(await postForm(this.desk.at("world/import"), form));
      this.set({ chosen: this.things.all.at(-1)?.[0] ?? null });
    });
  }

  begin(kind) {
    const { state } = this.desk;
    this.desk.goStage("world");
    const same = state.world.placing === kind;
    this.set({ bench: "probes", placing: same ? null : kind });
    this.desk.viewport.canvas.style.cursor = same ? "" : "crosshair";
  }

  cancel() {
    if (!this.desk.state.world.placing) return false;
    this.begin(this.desk.state.world.placing);
    return true;
  }

  get reach() {
    return REACH / this.desk.viewport.scale;
  }

  down(_event, at) {
    const { state, viewport } = this.desk;
    const [x, y] = viewport.toPlate(...at);
    const { frame } = state;
    if (state.world.placing) {
      this.desk
        .send("world/probe", { kind: state.world.placing, frame, x, y, reach: this.reach })
        .then(() => this.set({ chosen: this.things.all.at(-1)?.[0] ?? null, placing: null }));
      viewport.canvas.style.cursor = "";
      return true;
    }
    const id = viewport.over.hit(at, "probes");
    if (!id) return false;
    this.set({ chosen: id });
    const thing = this.things.all.find(([name]) => name === id)[1];
    this.held = { id, from: thing.position ?? [0, 0, 0], at: [frame, x, y], moved: false };
    return true;
  }

  move(_event, at) {
    if (!this.held) return;
    const [x, y] = this.desk.viewport.toPlate(...at);
    this.held.at = [this.desk.state.frame, x, y];
    this.held.moved = true;
    this.ask();
  }

  /** Carry the held thing along the surface under the pointer. */
  async carried() {
    const { held } = this;
    if (!held) return;
    const [frame, x, y] = held.at;
    const found = await get(
      this.desk.at(`world/cast.json?frame=${frame}&x=${x.toFixed(2)}&y=${y.toFixed(2)}&reach=0`),
    ).catch(() => null);
    if (!found?.xyz || this.held !== held) return;
    this.set({ ghost: { id: held.id, by: found.xyz.map((v, k) => v - held.from[k]) } });
  }

  async up() {
    const { held } = this;
    this.held = null;
    if (!held?.moved) return;
    const [frame, x, y] = held.at;
    await this.desk.send("world/probe", { id: held.id, frame, x, y, reach: 0 });
    this.set({ ghost: null });
  }

  draw() {
    const { world, solids } = this.desk.state;
    for (const kind of KINDS) find(`[data-act="probe-${kind}"]`).classList.toggle("on", world.placing === kind);
    find('[data-act="probe-points"]').classList.toggle("on", Boolean(world.onPoints));
    find("#probehint").textContent = world.placing
      ? "Click where it shall stand; surfaces, points and corners are met."
      : "";
    this.things.draw("Nothing is put in yet. Choose one and click on the plate where it shall stand.");
    const [bearing, height] = solids?.light ?? LIGHT;
    if (document.activeElement?.type !== "range") {
      find("#lightbearing").value = bearing;
      find("#lightheight").value = height;
    }
    if (!this.desk.state.attempt && world.placing) toast("Solve first.", true);
  }
}
