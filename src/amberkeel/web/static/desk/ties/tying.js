// The ties of a shot: by name, from pictures, by hand; the shot aligned by them, and what each of them says.
import { toast } from "../shell/api.js";
import { checked, element, find, signButton } from "../shell/dom.js";
import { counted } from "../shell/words.js";
import { HandTies } from "./byhand.js";
import { figureOf, lengthOf, unitOf } from "./words.js";

/** Ties wished for, and needed. */
const WISHED = 6;
const LEAST = 3;

/** Zoom from which the picture is moved to what is shown. */
const CLOSE = 1.3;

export class TiesBench {
  constructor(desk, other) {
    this.desk = desk;
    this.other = other;
    this.hand = new HandTies(desk, other);
    this.actions = [
      { id: "tie-names", name: "Ties: by name", run: () => this.send({ what: "names" }) },
      { id: "tie-pictures", name: "Ties: propose from pictures", run: () => this.start("ties/pictures") },
      { id: "tie-beside", name: "Ties: two plates side by side", keys: "Shift P", run: () => this.beside() },
      { id: "tie-whole", name: "Ties: all in one go", run: () => this.start("ties/whole") },
      { id: "tie-align", name: "Ties: align to the set", keys: "Y", run: () => this.align() },
      ...this.hand.actions,
      { id: "tie-copy", name: "Ties: keep a copy of the set's coordinates", run: () => this.send({ what: "copy" }) },
      { id: "tie-next", name: "Ties: to the next proposed tie", keys: "P", run: () => this.next() },
    ];
  }

  get known() {
    return this.desk.state.ties.known;
  }

  set(change) {
    const { store, state } = this.desk;
    store.set({ ties: { ...state.ties, ...change } });
  }

  send(body) {
    return this.desk.send("ties", body);
  }

  start(path) {
    if (!this.known?.set) return toast("This shot is of no set. Choose one, or make one.", true);
    return this.desk.start(path, {});
  }

  align() {
    return this.known?.set
      ? this.desk.start("ties/align", { exact: find("#tieexact").checked })
      : toast("This shot is of no set.", true);
  }

  beside() {
    this.desk.goStage("ties");
    this.set({ bench: "ties" });
    if (!this.known?.set) return toast("This shot is of no set.", true);
    return this.other.toggle();
  }

  drop() {
    const { chosen } = this.desk.state.ties;
    if (!chosen) return false;
    this.send({ what: "drop", keys: [chosen] });
    this.set({ chosen: null });
    return true;
  }

  /** Show a proposed tie in both plates. */
  show(one) {
    this.set({ proposal: one.name });
    this.desk.store.set({ frame: one.frame });
    this.other.go(one.fixed_frame, { name: one.name, x: one.fixed_xy[0], y: one.fixed_xy[1] });
    if (this.desk.viewport.zoom > CLOSE) this.desk.viewport.centre(...one.xy);
  }

  next() {
    const { proposed } = this.known ?? { proposed: [] };
    if (!proposed.length) return toast("Nothing is proposed.", true);
    const at = proposed.findIndex((one) => one.name === this.desk.state.ties.proposal);
    return this.show(proposed[(at + 1) % proposed.length]);
  }

  draw(known) {
    if (!known) return;
    const { set, lost } = known;
    find("#tiesays").textContent = this.says(known);
    for (const act of ["tie-names", "tie-pictures", "tie-beside", "tie-whole", "tie-align"])
      find(`[data-act="${act}"]`).disabled = !set || set.own || set.removed;
    find('[data-act="tie-beside"]').disabled = !set || set.removed || (set.own && !known.others.length);
    find("#tiecount").textContent = countWords(known);
    this.hand.draw(known);
    this.drawProposed(known);
    const rows = sorted(known).map((one) => this.row(one, known));
    rows.push(...lost.map((point) => this.lostRow(point)));
    find("#tielist").replaceChildren(
      ...(rows.length
        ? rows
        : [element("p", "label my-1", "None yet: three at the least, far apart and not on a line.")]),
    );
    this.drawAligned(known);
  }

  says({ set, stale, aligned }) {
    if (!set) return "Choose the set of this shot first.";
    if (set.own) return `This shot made ${set.name}: other shots are tied to it.`;
    if (stale) return stale;
    if (aligned) return `In the world of ${set.name}.`;
    return `Each tie says that a track here is a point of ${set.name}.`;
  }

  drawProposed({ proposed }) {
    const box = find("#tieproposed");
    if (!proposed.length) return box.replaceChildren();
    const head = element("h3", "flex");
    head.append("Proposed", element("span", "ml-auto label", `${proposed.length}, worst match first; P goes on`));
    const all = element("div", "grid grid-cols-2 gap-1 my-1");
    for (const [words, what] of [
      ["Take all", "take"],
      ["Leave all", "leave"],
    ]) {
      const button = element("button", "button tight", words);
      button.addEventListener("click", () => this.send({ what }));
      all.append(button);
    }
    const list = element("div", "tielist");
    const order = [...proposed].sort((a, b) => Math.min(...a.score) - Math.min(...b.score));
    list.append(...order.map((one) => this.proposedRow(one)));
    return box.replaceChildren(head, all, list);
  }

  proposedRow(one) {
    const row = element("div", `tierow proposed${one.name === this.desk.state.ties.proposal ? " sel" : ""}`);
    const there = element("img");
    there.src = this.desk.at(`ties/patch.png?side=there&name=${encodeURIComponent(one.name)}`);
    const here = element("img");
    here.src = this.desk.at(`ties/patch.png?side=here&name=${encodeURIComponent(one.name)}`);
    for (const image of [there, here]) Object.assign(image, { alt: "", width: 34, height: 34, loading: "lazy" });
    const words = element("span", "grow min-w-0");
    words.append(
      element("span", "block truncate", one.name),
      element("span", "fig label block", `${Math.min(...one.score).toFixed(2)} · ${one.rms.toFixed(2)} px`),
    );
    row.title = `Found on ${counted(one.frames.length, "frame")}; least match ${Math.min(...one.score).toFixed(3)}`;
    row.append(
      there,
      here,
      words,
      signButton("✓", `Take ${one.name}`, () => this.send({ what: "take", names: [one.name] })),
      signButton("×", `Leave ${one.name}`, () => this.send({ what: "leave", names: [one.name] })),
    );
    row.addEventListener("pointerdown", (e) => {
      if (e.button === 0 && !e.target.closest("button")) this.show(one);
    });
    return row;
  }

  row(one, { aligned, set }) {
    const told = aligned?.ties[one.point];
    const unit = aligned?.unit ?? (set.metric ? "m" : "units");
    const { chosen } = this.desk.state.ties;
    const row = element("div", `tierow${one.on ? "" : " off"}${one.key === chosen ? " sel" : ""}`);
    const box = element("input");
    Object.assign(box, { type: "checkbox", checked: one.on, title: "Counts" });
    box.setAttribute("aria-label", `${one.point} counts`);
    box.addEventListener("change", () => this.send({ what: "switch", keys: [one.key], on: box.checked }));
    const words = one.name === one.point ? one.name : `${one.point} — ${one.name}`;
    row.append(box, element("span", "truncate grow", words));
    if (told) {
      const px = told.off_px === null ? "" : ` · ${told.off_px.toFixed(2)}`;
      const figure = element(
        "span",
        `fig label${told.wrong ? " text-orchid" : ""}`,
        `${figureOf(told.off, unit)}${px}`,
      );
      row.append(figure);
      if (told.wrong) row.append(element("b", "text-orchid", "wrong"));
      if (told.pulls) row.append(element("b", "text-orchid", `pulls ${told.pulls.toFixed(1)} px`));
      const moves = told.decides === null ? "too much to tell" : lengthOf(told.decides, unit);
      row.title = `${told.sigmas.toFixed(1)} sigmas; without it the ties move by ${moves}`;
    } else row.append(element("span", "label", one.by));
    row.append(signButton("×", `Drop the tie of ${one.point}`, () => this.send({ what: "drop", keys: [one.key] })));
    row.addEventListener("pointerdown", (e) => {
      if (e.button !== 0 || e.target.closest("button, input")) return;
      this.set({ chosen: chosen === one.key ? null : one.key });
      this.desk.store.set({ selection: new Set([one.track]) });
    });
    return row;
  }

  lostRow(point) {
    const row = element("div", "tierow off");
    row.append(
      element("span", "truncate grow", point),
      element("span", "text-orchid", "its track was deleted"),
      signButton("×", `Drop the tie of ${point}`, () => this.send({ what: "drop", keys: [point] })),
    );
    return row;
  }

  copyButton(set) {
    const button = element("button", "button tight w-full mt-1", "Keep a copy, untied");
    button.title = `The coordinates of the ties stay with this shot as they are today; it follows ${set.name} no more`;
    button.addEventListener("click", () => this.send({ what: "copy" }));
    return button;
  }

  drawAligned({ aligned, ties, set }) {
    const box = find("#tiealigned");
    if (!aligned) {
      const more = LEAST - ties.filter((one) => one.on).length;
      const words = set && !set.own && more > 0 ? `${counted(more, "tie")} more at the least.` : "";
      return box.replaceChildren(element("p", "label my-1", words));
    }
    const [before, after] = aligned.rms_px;
    const [checkBefore, checkAfter] = aligned.check_px;
    const spread = aligned.spread.map((v) => (aligned.unit === "m" ? v.toFixed(1) : v.toPrecision(2))).join(" × ");
    const most = deciding(aligned);
    const lines = [
      `Ties ${lengthOf(aligned.rms, aligned.unit)} RMS off the set.`,
      `The shot's own fit: ${before.toFixed(3)} px alone, ${after.toFixed(3)} px tied; ` +
        `check ${checked(checkBefore).join(" ")} and ${checked(checkAfter).join(" ")}.`,
      `Spread ${spread} ${aligned.unit}.${most ? ` ${most} decides most.` : ""}`,
    ];
    return box.replaceChildren(
      element("h3", "", "How it came out"),
      ...lines.map((line) => element("p", "my-0.5", line)),
      ...aligned.notes.map((note) => element("p", "say my-1", note)),
      this.copyButton(set),
    );
  }
}

/** How many ties there are, and what the figures of their rows are. */
function countWords({ ties, aligned }) {
  if (aligned) return `${ties.length}; off in ${unitOf(aligned.unit)} · px`;
  return ties.length ? `${ties.length} of ${WISHED} wished for` : "";
}

/** The tie that the alignment rests on most. */
function deciding(aligned) {
  const known = Object.entries(aligned.ties).filter(([, one]) => one.decides !== null);
  return known.length ? known.reduce((a, b) => (a[1].decides > b[1].decides ? a : b))[0] : "";
}

/** Ties, the furthest off first once they are aligned. */
function sorted({ ties, aligned }) {
  const off = (one) => aligned?.ties[one.point]?.off ?? -1;
  return [...ties].sort((a, b) => off(b) - off(a) || a.point.localeCompare(b.point));
}
