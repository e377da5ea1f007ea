// Bodies: rigid things in the shot that move on their own, made of masks, solved beside the camera, their size told.
import { get, toast } from "../shell/api.js";
import { checked, element, facts, find, signButton } from "../shell/dom.js";
import { counted } from "../shell/words.js";
import { bodyOf } from "./words.js";

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

/** Tracks that are listed, the worst ones. */
const MOST_ROWS = 200;

export class BodiesBench {
  constructor(desk) {
    this.desk = desk;
    this.found = { bodies: [], masks: [] };
    this.picked = [];
    this.actions = [
      { id: "body-add", name: "Bodies: make the chosen mask a body", run: () => this.add() },
      { id: "body-of", name: "Bodies: make the selected tracks a body", run: () => this.addOfTracks() },
      { id: "body-solve", name: "Bodies: follow and solve the chosen one", run: () => this.solve(true) },
      { id: "body-again", name: "Bodies: solve the chosen one of the tracks it has", run: () => this.solve(false) },
      { id: "body-out", name: "Bodies: take the picked tracks out, or let them in", run: () => this.serve() },
      { id: "body-sheet", name: "Bodies: a sheet on the picked points", run: () => this.proxy("sheet") },
      { id: "body-box", name: "Bodies: a box on the picked points", run: () => this.proxy("box") },
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
    return bodyOf(this.found.bodies, this.desk.state.ties.body);
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
      set: (next) => this.pick([...next]),
    };
  }

  pick(names) {
    this.picked = names;
    this.set({ bodyPicked: names });
  }

  send(body) {
    return this.desk.send("bodies", body);
  }

  add() {
    const mask = Number(find("#bodymask").value);
    if (!mask) return toast("Mask what moves first, roughly: what stands still in it is let go.", true);
    return this.send({ what: "add", mask });
  }

  /** Make the shot's selected tracks a body; the camera is solved without them from then on. */
  async addOfTracks() {
    const ids = [...this.desk.state.selection];
    if (!ids.length) return toast("Select tracks that move as one piece in Tracks first.", true);
    await this.send({ what: "add", tracks: ids });
    if (this.found.bodies.length) return this.desk.edit("states", { states: { excluded: ids } });
  }

  solve(follow) {
    if (!this.chosen) return toast("There is no body.", true);
    return this.desk.start("bodies/solve", { key: this.chosen.key, follow });
  }

  /** Take the picked tracks out of the next solve, or let them in again where all of them are out. */
  serve() {
    const out = new Set(this.chosen?.out ?? []);
    return this.use({ what: "serve", names: this.picked, on: this.picked.every((name) => out.has(name)) });
  }

  proxy(kind) {
    return this.use({ what: "proxy", kind, names: this.picked });
  }

  tell() {
    const kind = find("#bodysize").value;
    const { frame, range } = this.desk.state;
    const typed = find("#bodyvalue").value.trim();
    const [a, b] = this.picked.slice(-2);
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
    const name = this.picked.at(-1);
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
    find('[data-act="body-of"]').lastChild.textContent =
      `A body of ${this.desk.state.selection.size || "the"} selected tracks`;
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
    const words = one.chosen ? "Solve it" : solved ? "Follow it anew" : "Follow and solve it";
    find('[data-act="body-solve"]').lastChild.textContent = words;
    find("#bodyagain").hidden = !solved || Boolean(one.chosen);
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
      ["Check", ...checked(solved.check_rms_px)],
      ["Extent", one.extent.map((v) => v.toFixed(2)).join(" × "), unit],
      ["Size", sigma, ""],
    ]);
    find("#bodytold").textContent = one.told
      ? `Told by ${one.told}.`
      : "Nothing tells its size: it was put as far away as things usually are.";
    this.drawTracks(one);
    this.drawOwn(one);
    const at = `/shots/${this.desk.shot}/bodies/${one.key}`;
    find("#bodyjson").href = `${at}/body.json`;
    find("#bodyusd").href = `${at}/body.usda`;
  }

  /** Its tracks, the farthest off first, and its proxies. */
  drawTracks(one) {
    const out = new Set(one.out);
    const moved = one.tracks.some((t) => out.has(t.name) === (t.state !== "excluded"));
    find("#bodycount").textContent = out.size && moved ? `${out.size} out, once solved again` : `${one.tracks.length}`;
    find("#bodytracks").replaceChildren(...one.tracks.slice(0, MOST_ROWS).map((track) => this.trackRow(track, out)));
    const isIn = this.picked.length && this.picked.every((name) => out.has(name));
    find('[data-act="body-out"]').lastChild.textContent = isIn ? "Let in again" : "Take out";
    find("#bodyproxies").replaceChildren(
      ...one.proxies.map(({ key, name }) => {
        const row = element("div", "tierow");
        row.append(element("i", "", "▱"), element("span", "truncate grow", name));
        row.append(signButton("×", `Delete ${name}`, () => this.use({ what: "no proxy", proxy: key })));
        return row;
      }),
    );
  }

  trackRow({ name, state, frames, rms_px, why }, out) {
    const isOut = out.has(name) || state === "excluded";
    const row = element("div", `tierow${this.picked.includes(name) ? " sel" : ""}${isOut ? " off" : ""}`);
    const sign = isOut ? "×" : state === "check" ? "◌" : "○";
    const rms = rms_px === null ? "–" : `${rms_px.toFixed(2)} px`;
    row.append(element("i", "", sign), element("span", "grow", name), element("span", "label", frames.join("–")));
    row.append(element("span", "fig", rms));
    row.title = why || (out.has(name) ? "Taken out of its solve" : state === "check" ? "A check track" : "");
    row.addEventListener("pointerdown", (e) => {
      if (e.button !== 0) return;
      const others = this.picked.filter((one) => one !== name);
      const kept = e.shiftKey || e.ctrlKey ? others : [];
      this.pick(this.picked.includes(name) && (kept.length || this.picked.length === 1) ? kept : [...kept, name]);
    });
    return row;
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
      this.picked.length && ["length", "tie"].includes(kind)
        ? `Picked: ${this.picked.slice(-2).join(", ")}. ${hint}`
        : hint;
    const places = kind === "tie" ? (this.desk.state.ties.known?.set?.points ?? []) : [];
    find("#bodyplaces").replaceChildren(...places.map((point) => new Option(point.name)));
    find("#bodyvalue").hidden = !example;
    find("#bodyvalue").placeholder = example;
  }
}
