// What is known of the set and of the camera's path: constraints with what they say after the solve.
import { postForm, toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";
import { surveySentence } from "./survey.js";

const FRAMES = new Set(["camera-height", "camera-rail", "camera-plane", "camera-spot", "smooth", "hold", "path"]);
const WHOLE = new Set(["square", "parallel", "axes", "swing-radius"]);
const HINTS = {
  distance: "Select two tracks. A tape's sigma is half a per cent unless you type one.",
  level: "Select tracks on level ground: a floor, a quay, water at rest. With a height they lie at that height.",
  plane: "Select tracks with box or lasso on one wall, floor or board.",
  line: "Select tracks along one straight edge.",
  anchor: "Select one track; leave an axis empty that you do not know. Three points off one line fix the world.",
  table:
    "A line for each point: track, x, y, z, perhaps sigma. Four tell a camera, six where the focal length is unknown.",
  copied: "Select tracks; each is anchored where the attempt has it, within its own sigma.",
  square: "Two planes from the list, as floor and wall.",
  parallel: "Two planes from the list, as two walls.",
  "camera-height": "Over Y = 0: needs ground or anchored points.",
  "camera-rail": "A dolly on straight rails.",
  "camera-plane": "A camera on wheels on a level floor.",
  "camera-spot": "A tripod for a while: it only turns there.",
  smooth: "Says how hard the camera can accelerate; it takes jitter out that the tracks do not insist on.",
  axes: "Lines drawn along X, Y and Z tell focal length, level and heading; their sigma is in pixels, 1 unless typed.",
  "swing-radius":
    "From the point about which the camera turns to its entrance pupil, along the lens: it gives the scale.",
  hold: "Keeps a good stretch while the rest is solved again.",
  path: "A table with frame, x, y, z and a rotation, or USD with one camera; metres, and the plate's frames.",
};

const MOST_TABLE = 64 << 10;

const AFRESH = [
  ["", "start afresh"],
  ["chosen", "afresh, from the brushed frames"],
  ["jerkiest", "afresh, around the jerkiest part"],
  ["hand", "afresh, from the tracks led by hand"],
  ["known", "afresh, from the known points"],
];

export class Known {
  constructor(desk) {
    this.desk = desk;
    find("#knownkind").addEventListener("change", () => this.show());
    find("#surveytable").addEventListener("input", () => this.hint());
    find("#surveyfile").addEventListener("click", () => find("#surveyopen").click());
    find("#surveyopen").addEventListener("change", (event) => this.readTable(event.target));
    find("#surveyset").addEventListener("click", () => this.addTable(true));
    this.show();
  }

  get kind() {
    return find("#knownkind").value;
  }

  /** Show the fields of the chosen kind. */
  show() {
    for (const field of document.querySelectorAll("#known [data-for]"))
      field.hidden = !field.dataset.for.split(" ").includes(this.kind);
    find("#lengthword").textContent = { distance: "Distance", "swing-radius": "Radius" }[this.kind] ?? "Height";
    find("#knownlength").placeholder = this.kind === "level" ? "any" : this.kind === "distance" ? "4.20" : "1.60";
    find("#knownexactly").hidden = this.kind === "axes";
    this.hint();
  }

  hint() {
    const { selection, range } = this.desk.state;
    const of = FRAMES.has(this.kind)
      ? range
        ? `Frames ${range[0]}–${range[1]} are chosen.`
        : "All frames; brush a lane to choose some."
      : WHOLE.has(this.kind)
        ? ""
        : `${selection.size || "No"} track${selection.size === 1 ? " is" : "s are"} selected.`;
    const table =
      this.kind === "table" ? surveySentence(find("#surveytable").value, this.desk.state.tracks?.names ?? []) : "";
    find("#knownhint").textContent = table || `${HINTS[this.kind]} ${of}`;
  }

  /** Send what is typed. */
  add() {
    const { desk, kind } = this;
    if (kind === "path") return this.addPath();
    if (kind === "table") return this.addTable(false);
    const value = (id) => find(`#${id}`).value;
    const planes = kind === "square" || kind === "parallel" ? [value("planea"), value("planeb")] : [];
    return desk.send("constraints", {
      kind,
      tracks: FRAMES.has(kind) || planes.length ? [] : desk.selected,
      frames: FRAMES.has(kind) && desk.state.range ? desk.state.range : [],
      length: value("knownlength"),
      unit: value("knownunit"),
      sigma: value("knownsigma"),
      x: value("knownx"),
      y: value("knowny"),
      z: value("knownz"),
      planes,
      preset: value("knownpreset"),
      attempt: Number(value("knownattempt") || 0),
      exact: find("#knownexact").checked,
    });
  }

  /** Anchor the tracks of the table, or those that are called like points of the shot's set. */
  addTable(ofSet) {
    const { desk } = this;
    return desk.send("constraints/survey", {
      table: ofSet ? "" : find("#surveytable").value,
      of_set: ofSet,
      unit: find("#surveyunit").value,
      sigma: find("#knownsigma").value,
      tracks: desk.selected,
      exact: find("#knownexact").checked,
    });
  }

  /** Put a file's text into the table, to be looked at before it is added. */
  async readTable(input) {
    const [file] = input.files;
    input.value = "";
    if (!file) return;
    if (file.size > MOST_TABLE) return toast("That file is too long for a table of points.", true);
    find("#surveytable").value = await file.text();
    this.hint();
  }

  addPath() {
    const { desk } = this;
    const [file] = find("#knownfile").files;
    const form = new FormData();
    if (file) form.set("file", file);
    form.set("revision", desk.revision);
    const { range } = desk.state;
    if (range) form.set("first", range[0]);
    if (range) form.set("last", range[1]);
    return desk.act(async () => desk.answered(await postForm(desk.at("constraints/path"), form)));
  }

  draw(server) {
    const rows = server.constraints;
    const terms = server.attempts.find((a) => a.id === server.pinned)?.figures.terms ?? [];
    const said = new Map(terms.map((t) => [t.name, t]));
    const on = rows.filter((r) => r.on).length;
    find("#knowncount").textContent = rows.length ? `${on} of ${rows.length} on` : "";
    find("#constraints").replaceChildren(...rows.map((row, number) => this.row(row, number, said.get(row.name))));
    const options = (values) => values.map(([value, text]) => new Option(text, value));
    const planes = rows.filter((r) => r.kind === "plane").map((r) => [r.name, r.name]);
    for (const id of ["#planea", "#planeb"]) keep(find(id), options(planes));
    if (planes.length > 1 && find("#planea").value === find("#planeb").value) find("#planeb").selectedIndex = 1;
    const attempts = server.attempts.map((a) => [a.id, `attempt ${a.number}`]);
    keep(find("#knownattempt"), options(attempts));
    const refine = attempts.map(([id, text]) => [id, `refine ${text}`]);
    const paths = rows.filter((r) => r.kind === "hold" && r.positions && r.rotations);
    const along = paths.map((r) => [`path ${r.name}`, `from the path ${r.name}`]);
    keep(find("#begin"), options([...AFRESH, ...refine, ...along]));
  }

  row(row, number, term) {
    const { desk } = this;
    const change = (what) => desk.send("constraints/change", { number, ...what });
    const box = element("div", "constraint");
    const tick = element("input");
    tick.type = "checkbox";
    tick.checked = row.on;
    tick.title = "Counts in the next solve";
    tick.addEventListener("change", () => change({ on: tick.checked }));
    const name = element("button", "name", row.name);
    name.title = "Select its tracks or frames";
    name.addEventListener("click", () => this.choose(row));
    const hold = element("button", `button quiet${row.exact ? " on" : ""}`, row.exact ? "exact" : "within");
    hold.title = "Hold it exactly, or within its sigma";
    hold.addEventListener("click", () => change({ exact: !row.exact }));
    hold.hidden = row.kind === "smooth" || row.kind === "axis-lines";
    const gone = element("button", "button quiet", "×");
    gone.setAttribute("aria-label", `Remove ${row.name}`);
    gone.addEventListener("click", () => change({ remove: true }));
    box.append(tick, name, hold, gone, element("small", loud(term) ? "loud" : "", words(row, term)));
    return box;
  }

  choose(row) {
    const { store } = this.desk;
    const ids = row.tracks ?? (row.track ? [row.track] : []);
    if (ids.length) store.set({ selection: new Set(ids) });
    else if (row.lines) store.set({ frame: row.lines[0].frame });
    else if (row.frames?.length) store.set({ range: [row.frames[0], row.frames.at(-1)], frame: row.frames[0] });
  }
}

const loud = (term) => term?.fights;

/** What was stated, and what the pinned attempt found. */
function words(row, term) {
  const many = row.lines ? `${row.lines.length} lines` : row.tracks?.length > 2 ? `${row.tracks.length} tracks` : "";
  const about =
    row.kind === "distance" || row.kind === "swing-radius"
      ? `${fixed(row.length)} m`
      : row.kind === "anchor"
        ? place(row.xyz)
        : many;
  if (!term) return [about, row.on ? "not solved with yet" : "off"].filter(Boolean).join(" · ");
  const found = row.kind === "distance" || row.kind === "swing-radius" || row.kind === "angle" ? "found" : "off by";
  const worst = loud(term) && term.worst ? `, ${term.worst} most` : "";
  const sigmas = `${Math.abs(term.sigmas).toFixed(1)} sigma${loud(term) ? " ▲ disagrees" : ""}${worst}`;
  return `${about ? `${about} · ` : ""}${found} ${fixed(term.found)} ${term.unit}, ${sigmas}`;
}

const fixed = (value) => (Math.abs(value) < 0.1 ? value.toPrecision(2) : value.toFixed(3));
const place = (xyz) => xyz.map((v) => (v === null ? "–" : v.toFixed(2))).join(", ");

/** Fill a list anew and keep what was chosen. */
function keep(list, options) {
  const { value } = list;
  list.replaceChildren(...options);
  if (options.some((o) => o.value === value)) list.value = value;
}
