// The datum's bench: what fixes the scene's coordinates, where each part comes from, and how well it fits.
import { get, postForm } from "../shell/api.js";
import { element, facts, find, signButton, write } from "../shell/dom.js";
import { figureOf, smallOf } from "./figures.js";

const KINDS = { ground: "like a ground", wall: "like a wall", slope: "sloping" };

/** Where a part comes from, in words. */
const FROM = {
  ground: "points on it",
  direction: "points",
  lines: "axis lines",
  track: "a track",
  tracks: "amid tracks",
  spot: "a spot on the plate",
  hand: "by hand",
  distances: "measured",
  anchors: "anchored points",
  "": "not set",
};

export class DatumBench {
  constructor(desk, ground) {
    this.desk = desk;
    const typed = () => ({
      distance: find("#distance").value,
      unit: find("#unit").value,
      sigma: find("#distancesigma").value,
    });
    const selected = (what, more = {}) => this.set(what, { tracks: this.desk.selected, ...more });
    this.actions = [
      {
        id: "ground-point",
        name: "World: point at the ground",
        keys: "Shift V",
        run: () => this.open(() => ground.take("ground")),
      },
      { id: "origin-point", name: "World: origin at a spot", run: () => this.open(() => ground.take("spot")) },
      { id: "datum-ground", name: "World: ground from the selected tracks", run: () => selected("ground") },
      { id: "planes", name: "World: find planes among the points", run: () => this.open(() => this.offer()) },
      { id: "datum-origin", name: "World: origin from the selected tracks", run: () => selected("origin") },
      { id: "origin-none", name: "World: no origin", run: () => this.set("no-origin") },
      {
        id: "datum-direction",
        name: "World: an axis along two selected tracks",
        run: () => selected("direction", { axis: find("#headingaxis").value }),
      },
      {
        id: "datum-distance",
        name: "World: a measured length between two selected tracks",
        run: () => selected("distance", typed()),
      },
      {
        id: "datum-height",
        name: "World: the camera's height on this frame",
        run: () => this.set("distance", { axis: "height", frame: desk.state.frame, ...typed() }),
      },
      { id: "survey", name: "World: lengths from a sheet", run: () => find("#surveyfile").click() },
      { id: "hand-set", name: "World: set the scene by the typed figures", run: () => this.byHand() },
      ...["x", "y", "z"].flatMap((axis) =>
        [
          ["less", -1],
          ["more", 1],
        ].map(([way, sign]) => ({
          id: `turn-${axis}-${way}`,
          name: `World: turn the scene about ${axis.toUpperCase()}, ${way === "more" ? "on" : "back"} by a step`,
          run: () => this.set("nudge", { axis, degrees: String(sign * Number(find("#handstep").value)) }),
        })),
      ),
      { id: "datum-flip", name: "World: turn it the other way up", run: () => this.set("flip") },
      { id: "datum-clear", name: "World: clear the datum", run: () => this.set("clear") },
    ];
    find("#surveyfile").addEventListener("change", (e) => this.bring(e.target));
    find("#datumfrom").addEventListener("change", (e) => {
      const shot = Number(e.target.value);
      e.target.value = "";
      if (shot) this.set("copy", { shot });
    });
  }

  /** Go to the bench, then do something. */
  open(work) {
    const { store, state } = this.desk;
    this.desk.goStage("world");
    if (state.world.bench !== "datum") store.set({ world: { ...state.world, bench: "datum" } });
    work();
  }

  set(what, more = {}) {
    return this.desk.send("datum", { what, ...more });
  }

  bring(input) {
    const form = new FormData();
    form.append("file", input.files[0]);
    form.append("unit", find("#unit").value);
    form.append("revision", this.desk.revision);
    input.value = "";
    return this.desk.act(async () => this.desk.answered(await postForm(this.desk.at("survey"), form)));
  }

  byHand() {
    const of = (name) => ["x", "y", "z"].map((axis) => find(`#${name}${axis}`).value);
    return this.set("hand", { turn: of("turn"), move: of("move"), scale: find("#handscale").value });
  }

  /** Ask for the large planes and show them; pointing at one shows it on the plate. */
  offer() {
    const { store, state } = this.desk;
    const { frame } = state;
    return this.desk.act(async () => {
      const { planes, note } = await get(this.desk.at(`world/planes.json?frame=${frame}`));
      store.set({ world: { ...state.world, planes: { frame, planes, note }, offered: null } });
    });
  }

  show(plane, frame) {
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, offered: plane ? { ...plane, frame } : null } });
  }

  draw() {
    const { server, attempt, tracks, world } = this.desk.state;
    if (!server) return;
    const datum = server.datum ?? {};
    const told = attempt?.told;
    this.scaled = Boolean(told?.from.scale);
    this.names = new Map((tracks?.ids ?? []).map((id, t) => [id, tracks.names[t]]));
    for (const [act, tool] of [
      ["ground-point", "ground"],
      ["origin-point", "spot"],
    ])
      find(`[data-act="${act}"]`).classList.toggle("on", world.tool === tool);
    this.drawNotes(told, attempt);
    this.drawPlanes(world.planes);
    this.drawGround(datum, told);
    write("#originfact", FROM[told?.from.origin ?? ""]);
    this.drawHeadings(datum);
    this.drawDistances(datum, told);
    this.drawHand(datum.hand);
    this.drawFacts(told?.facts);
    find("#axesnote").hidden = !(datum.axes?.place && !server.placed);
  }

  drawNotes(told, attempt) {
    const notes = [];
    if (!attempt) notes.push(element("p", "label my-1", "Solve first: the datum is set on solved points."));
    if (told?.under) {
      const box = element("p", "say my-1", "The camera stands under the ground: up and down are changed over. ");
      const mend = element("button", "button", "Turn it over");
      mend.addEventListener("click", () => this.set("flip"));
      box.append(mend);
      notes.push(box);
    }
    for (const words of told?.missing ?? []) notes.push(element("p", "say my-1", words));
    find("#datumnotes").replaceChildren(...notes);
  }

  drawPlanes(found) {
    const box = find("#planelist");
    if (!found) return box.replaceChildren();
    const { planes, note, frame } = found;
    if (!planes.length) return box.replaceChildren(element("p", "label my-1", note ?? "There are no large planes."));
    return box.replaceChildren(
      ...planes.map((plane, k) => {
        const row = element("button", "linerow");
        const relation = plane.square_to.length ? `square to ${plane.square_to.map((n) => n + 1).join(", ")}` : "";
        const [rms, unit] = smallOf(plane.rms, this.scaled);
        row.append(
          element("i", "", String(k + 1)),
          element("span", "truncate", KINDS[plane.kind]),
          element("span", "label", relation),
          element("span", "fig", `${plane.tracks.length} · ${rms} ${unit}`),
        );
        row.title = `${plane.tracks.length} points, ${plane.rms_px.toFixed(2)} px RMS. Click to take it as the ground.`;
        row.addEventListener("pointerenter", () => this.show(plane, frame));
        row.addEventListener("pointerleave", () => this.show(null));
        row.addEventListener("click", () => this.takePlane(plane));
        return row;
      }),
    );
  }

  takePlane(plane) {
    const { store, state } = this.desk;
    store.set({ world: { ...state.world, planes: null, offered: null } });
    this.set("ground", { tracks: plane.tracks });
  }

  drawGround(datum, told) {
    const fit = told?.ground;
    write("#groundfrom", FROM[told?.from.level ?? ""]);
    write("#groundfit", "");
    if (fit) {
      const [rms, unit] = smallOf(fit.rms, this.scaled);
      const px = fit.rms_px == null ? "" : ` · ${fit.rms_px.toFixed(2)} px`;
      write("#groundfit", `${fit.points.filter((p) => p.on).length} points · ${rms} ${unit}${px} RMS`);
    }
    const box = find("#groundpoints");
    if (!fit) return box.replaceChildren();
    const off = fit.points.filter((p) => !p.on);
    const details = element("details", "mt-1");
    details.open = box.querySelector("details")?.open ?? false;
    details.append(element("summary", "", off.length ? `Its points, ${off.length} off it` : "Its points"));
    const most = [...off, ...fit.points.filter((p) => p.on).sort((a, b) => Math.abs(b.off) - Math.abs(a.off))];
    details.append(...most.slice(0, MOST_SHOWN).map((p) => this.pointRow(p)));
    if (most.length > MOST_SHOWN) details.append(element("p", "label", `and ${most.length - MOST_SHOWN} nearer to it`));
    return box.replaceChildren(...(off.length ? [element("p", "say my-1", this.offWords(off))] : []), details);
  }

  offWords(off) {
    const named = off.slice(0, 3).map((p) => {
      const [by, unit] = smallOf(p.off, this.scaled);
      return `${this.names.get(p.id) ?? p.id} (${by} ${unit})`;
    });
    const more = off.length > 3 ? ` and ${off.length - 3} more` : "";
    return `Not on it, and not counted: ${named.join(", ")}${more}.`;
  }

  pointRow(point) {
    const row = element("div", `pointrow${point.on ? "" : " bad"}`);
    const patch = element("img");
    patch.src = this.desk.at(`world/patch/${point.id}.png`);
    patch.loading = "lazy";
    patch.alt = "";
    const [by, unit] = smallOf(point.off, this.scaled);
    const name = element("button", "name truncate", this.names.get(point.id) ?? `number ${point.id}`);
    name.title = "Select it";
    name.addEventListener("click", () => this.desk.store.set({ selection: new Set([point.id]) }));
    const px = point.px == null ? "" : `${point.px.toFixed(2)} px`;
    row.append(patch, name, element("span", "fig label", px), element("span", "fig", `${by} ${unit}`));
    row.append(signButton("⇄", "Put the selected track in its place", () => this.exchange(point.id)));
    row.append(signButton("×", "Not of the ground", () => this.set("unground", { tracks: [point.id] })));
    return row;
  }

  exchange(id) {
    this.set("exchange", { tracks: [id, ...this.desk.selected.filter((one) => one !== id)] });
  }

  drawHeadings(datum) {
    const rows = (datum.directions ?? []).map((one, k) => {
      const row = element("div", "pointrow plain");
      const [from, to] = one.tracks.map((id) => this.names.get(id) ?? id);
      row.append(
        element("b", "fig text-amber", one.axis.toUpperCase()),
        element("span", "truncate", `${from} → ${to}`),
      );
      row.append(signButton("⇄", "Turn it round", () => this.set("swap", { number: k })));
      row.append(signButton("×", "Let go of it", () => this.set("undirect", { number: k })));
      return row;
    });
    const { told } = this.desk.state.attempt ?? {};
    const words = FROM[told?.from.heading ?? ""];
    const quiet = element(
      "p",
      "label my-1",
      words === "not set" ? "The first camera looks along -Z." : `From ${words}.`,
    );
    find("#headings").replaceChildren(...(rows.length ? rows : [quiet]));
  }

  drawDistances(datum, told) {
    const rows = datum.distances ?? [];
    const sigma = told?.scale_sigma;
    write("#scalefact", sigma == null ? FROM[told?.from.scale ?? ""] : `±${(100 * sigma).toFixed(2)} %`);
    find("#distances").replaceChildren(
      ...rows.map((one, k) => this.distanceRow(one, k, told?.distances?.[k])),
      ...(told?.from.scale ? [] : [element("p", "label my-1", "Without a length the scene is in units of its own.")]),
    );
  }

  distanceRow(one, k, found) {
    const row = element("div", `pointrow length${found?.contradicts ? " bad" : ""}${one.on === false ? " off" : ""}`);
    const tick = element("input");
    tick.type = "checkbox";
    tick.checked = one.on !== false;
    tick.title = "Whether it counts";
    tick.addEventListener("change", () => this.set("change-distance", { number: k }));
    const typed = /[a-z'"]/i.test(one.typed ?? "") ? one.typed : `${one.typed ?? one.metres} ${one.unit ?? "m"}`;
    const waits = !one.tracks?.length && one.height_on == null && !one.spots?.length && !one.ends?.length;
    const of =
      one.height_on == null
        ? (one.tracks ?? []).map((id) => this.names.get(id) ?? id).join(" – ")
        : `camera, ${one.height_on}`;
    const name = element("span", "truncate", one.name || (waits ? "a length" : of));
    name.title = waits ? "Select its two tracks, then press the arrows" : of;
    const judged = found
      ? `${found.share >= 0 ? "+" : ""}${(100 * found.share).toFixed(2)} %`
      : waits
        ? "no tracks"
        : "";
    const figure = element("span", "fig", judged);
    if (found)
      figure.title = `${Math.abs(found.sigmas).toFixed(1)} σ${found.contradicts ? ": contradicts the others" : ""}`;
    row.append(tick, name, element("span", "fig label", typed), figure);
    row.append(
      signButton("⇄", "Measured between the two selected tracks", () =>
        this.set("change-distance", { number: k, tracks: this.desk.selected }),
      ),
      signButton("×", "Let go of it", () => this.set("drop-distance", { number: k })),
    );
    return row;
  }

  drawHand(hand) {
    const set = (id, value) => {
      const field = find(id);
      if (document.activeElement !== field) field.value = value;
    };
    ["x", "y", "z"].forEach((axis, k) => {
      set(`#turn${axis}`, Number((hand?.turn?.[k] ?? 0).toFixed(4)));
      set(`#move${axis}`, Number((hand?.move?.[k] ?? 0).toFixed(4)));
    });
    set("#handscale", Number((hand?.scale ?? 1).toFixed(6)));
    write("#handfact", hand ? "· set" : "");
  }

  drawFacts(seen) {
    if (!seen) return facts(find("#camerafacts"), []);
    const unit = this.scaled ? "m" : "units";
    const [low, middle, high] = seen.height;
    const spread = high - low > 0.02 * Math.abs(middle) ? ` (${figureOf(low)} to ${figureOf(high)})` : "";
    return facts(find("#camerafacts"), [
      ["Height", figureOf(middle) + spread, unit],
      ["Speed, middle and most", `${figureOf(seen.speed[0])}, ${figureOf(seen.speed[1])}`, `${unit}/s`],
      ["Travels", figureOf(seen.travel), unit],
    ]);
  }
}

/** Points of the ground that are listed. */
const MOST_SHOWN = 24;
