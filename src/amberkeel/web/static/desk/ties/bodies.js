// Bodies: rigid things in the shot that move on their own, made of masks, solved beside the camera, their size told.
import { get, toast } from "../shell/api.js";
import { element, facts, find, signButton } from "../shell/dom.js";
import { counted } from "./words.js";

/** How a size is told: by name, what is typed, and a hint. */
const SIZES = {
  "": ["nothing yet", "", ""],
  length: ["a length on it", "1.20", "Click two of its points, the second with Shift; type how far apart they are."],
  ground: ["touching the ground", "", "On this frame its lowest point lies on the ground, height 0 of the world."],
  still: ["standing still", "", "Brush the frames on which it stands still while the camera moves."],
  tie: [
    "a known place",
    "0, 0, 0",
    "Click one of its points; type what it touches on this frame: x, y, z or a point of the set.",
  ],
};

export class BodiesBench {
  constructor(desk) {
    this.desk = desk;
    this.found = { bodies: [], masks: [] };
    this.picked = [];
    this.actions = [
      { id: "body-add", name: "Bodies: make the chosen mask a body", run: () => this.add() },
      { id: "body-solve", name: "Bodies: follow and solve the chosen one", run: () => this.solve() },
      { id: "body-tell", name: "Bodies: tell the chosen one's size", run: () => this.tell() },
      { id: "body-origin", name: "Bodies: origin at the picked point", run: () => this.origin() },
      { id: "body-upright", name: "Bodies: its axes are the world's on this frame", run: () => this.upright() },
    ];
    find("#bodyprobe").addEventListener("change", (e) => this.use({ what: "probe", on: e.target.checked }));
    find("#bodyattempt").addEventListener("change", (e) =>
      this.use({ what: "attempt", attempt: Number(e.target.value) }),
    );
    const select = find("#bodysize");
    select.replaceChildren(...Object.entries(SIZES).map(([kind, [words]]) => new Option(words, kind)));
    select.addEventListener("change", () => this.drawSize());
    const before = desk.viewport.picks;
    desk.viewport.picks = () => (this.isOn ? this.picks() : before());
  }

  get isOn() {
    const { stage, ties } = this.desk.state;
    return stage === "ties" && ties.bench === "bodies";
  }

  get chosen() {
    const { body } = this.desk.state.ties;
    return this.found.bodies.find((one) => one.key === body) ?? this.found.bodies[0];
  }

  set(change) {
    const { store, state } = this.desk;
    store.set({ ties: { ...state.ties, ...change } });
  }

  async fetch() {
    this.found = await get(this.desk.at("bodies.json"));
    this.set({ bodies: this.found.bodies });
    this.desk.space.scene?.setBodies(this.found.bodies);
  }

  /** The body's points on this frame, to be picked: two for a length, one for a place. */
  picks() {
    const { viewport, state } = this.desk;
    const one = this.chosen;
    const at = one?.seen?.[state.frame] ?? [];
    return {
      items: at.map(([x, y], k) => [one.names[k], ...viewport.toScreen(x, y)]),
      chosen: new Set(this.picked),
      set: (next) => {
        this.picked = [...next].slice(-2);
        this.set({ bodyPicked: this.picked });
      },
    };
  }

  send(body) {
    return this.desk.send("bodies", body);
  }

  add() {
    const mask = Number(find("#bodymask").value);
    if (!mask) return toast("Mask what moves first, roughly: what stands still in it is let go.", true);
    return this.send({ what: "add", mask });
  }

  solve() {
    return this.chosen ? this.desk.start("bodies/solve", { key: this.chosen.key }) : toast("There is no body.", true);
  }

  tell() {
    const kind = find("#bodysize").value;
    const { frame, range } = this.desk.state;
    const typed = find("#bodyvalue").value.trim();
    const [a, b] = this.picked;
    if (kind === "length" && !b) return toast("Click two of its points on the plate first.", true);
    if (kind === "tie" && !a) return toast("Click one of its points on the plate first.", true);
    if (kind === "still" && !range) return toast("Brush the frames on which it stands still.", true);
    const words = {
      "": "",
      length: `length=${a},${b},${typed.replace(",", ".")}`,
      ground: `ground=${frame}`,
      still: `still=${range?.join("-")}`,
      tie: `tie=${a},${frame},${typed}`,
    };
    return this.send({ what: "size", key: this.chosen?.key ?? "", size: words[kind] });
  }

  /** Change the chosen body. */
  use(body) {
    return this.chosen ? this.send({ key: this.chosen.key, ...body }) : toast("There is no body.", true);
  }

  origin() {
    const [name] = this.picked;
    return this.use({ what: "axes", name: name ?? "" });
  }

  upright() {
    return this.use({ what: "axes", frame: this.desk.state.frame });
  }

  draw() {
    const masks = find("#bodymask");
    const own = new Set(this.found.bodies.map((one) => one.mask));
    const free = this.found.masks.filter((one) => !own.has(one.id));
    masks.replaceChildren(
      ...(free.length ? free.map((one) => new Option(one.name, one.id)) : [new Option("no mask", "")]),
    );
    const rows = this.found.bodies.map((one) => this.row(one));
    const empty = "None. Mask what moves as one piece, roughly; here it is followed inside that mask and solved.";
    find("#bodylist").replaceChildren(...(rows.length ? rows : [element("p", "label my-1", empty)]));
    find("#bodyuse").hidden = !this.chosen;
    if (!this.chosen) return;
    this.drawFacts(this.chosen);
    this.drawSize();
  }

  row(one) {
    const row = element("div", `tierow${one.key === this.chosen?.key ? " sel" : ""}`);
    const words = one.solved ? counted(one.solved.tracks, "track") : "not solved";
    row.append(element("i", "", "◈"), element("span", "truncate grow", one.name), element("span", "label", words));
    row.append(signButton("×", `Delete ${one.name}`, () => this.send({ what: "remove", key: one.key })));
    row.addEventListener("pointerdown", (e) => {
      if (e.button === 0 && !e.target.closest("button")) this.set({ body: one.key });
    });
    return row;
  }

  drawFacts(one) {
    const { solved } = one;
    find('[data-act="body-solve"]').lastChild.textContent = solved
      ? "Follow and solve it again"
      : "Follow and solve it";
    find("#bodysays").textContent = one.trouble
      ? one.trouble
      : solved?.behind
        ? `The camera is another since: it was solved beside attempt ${solved.attempt}.`
        : "";
    find("#bodysays").classList.toggle("say", Boolean(one.trouble || solved?.behind));
    find("#bodyafter").hidden = !solved || Boolean(one.trouble);
    if (!solved || one.trouble) return;
    const unit = this.desk.state.attempt?.told?.from.scale ? "m" : "units";
    const sigma = one.sigma === null ? "not told" : `±${(100 * one.sigma).toFixed(2)} %`;
    facts(find("#bodyfacts"), [
      ["Frames", solved.frames.join("–"), ""],
      ["Residual", solved.rms_px.toFixed(3), "px"],
      ["Check", solved.check_rms_px.toFixed(3), "px"],
      ["Extent", one.extent.map((v) => v.toFixed(2)).join(" × "), unit],
      ["Size", sigma, ""],
    ]);
    find("#bodytold").textContent = one.told
      ? `Told by ${one.told}.`
      : "Nothing tells its size: it was put as far away as things usually are.";
    this.drawOwn(one);
    const at = `/shots/${this.desk.shot}/bodies/${one.key}`;
    find("#bodyjson").href = `${at}/body.json`;
    find("#bodyusd").href = `${at}/body.usda`;
  }

  /** What belongs to the body alone: its attempts, probe box and axes. */
  drawOwn({ attempts, probe, axes }) {
    find("#bodytries").hidden = attempts.length < 2;
    find("#bodyattempt").replaceChildren(
      ...attempts.map((one, k) => {
        const words = `${k + 1} · ${counted(one.tracks, "track")}, ${one.rms_px.toFixed(3)} px`;
        return new Option(words, k, one.used, one.used);
      }),
    );
    find("#bodyprobe").checked = probe;
    const from = axes.origin ? `Origin at ${axes.origin}` : "Origin in the middle of its points";
    find("#bodyaxes").textContent =
      `${from}; axes the world's on ${axes.frame ? `frame ${axes.frame}` : "its first frame"}.`;
  }

  drawSize() {
    const kind = find("#bodysize").value;
    const [, example, hint] = SIZES[kind];
    find("#bodyhint").textContent =
      this.picked.length && ["length", "tie"].includes(kind) ? `Picked: ${this.picked.join(", ")}. ${hint}` : hint;
    const places = kind === "tie" ? (this.desk.state.ties.known?.set?.points ?? []) : [];
    find("#bodyplaces").replaceChildren(...places.map((point) => new Option(point.name)));
    find("#bodyvalue").hidden = !example;
    find("#bodyvalue").placeholder = example;
  }
}
