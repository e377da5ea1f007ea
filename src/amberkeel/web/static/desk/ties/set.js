// The set of a shot: chosen, made, brought in, grown, renewed, frozen, handed on.
import { postForm, toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";
import { lengthOf } from "./words.js";

/** Points that are listed. */
const MOST_SHOWN = 200;

export class SetBench {
  constructor(desk) {
    this.desk = desk;
    this.actions = [
      { id: "set-make", name: "Ties: make a set of this shot", run: () => this.make() },
      { id: "set-bring", name: "Ties: bring in a set or a survey", run: () => find("#setfile").click() },
      { id: "set-grow", name: "Ties: the selected tracks become points of the set", run: () => this.grow() },
      { id: "set-renew", name: "Ties: renew the set from its reference", run: () => this.change({ renew: true }) },
      { id: "set-freeze", name: "Ties: freeze the set, or let it go", run: () => this.freeze() },
      { id: "set-remove", name: "Ties: delete the set", run: () => this.remove() },
    ];
    find("#setchoice").addEventListener("change", (e) =>
      this.desk.send("ties", { what: "choose", set: e.target.value ? Number(e.target.value) : null }),
    );
    find("#setfile").addEventListener("change", () => this.bring());
  }

  get known() {
    return this.desk.state.ties.known;
  }

  make() {
    const name = find("#setname").value.trim();
    if (!name) {
      find("#setname").focus();
      return toast("Call the set what the place is called.", true);
    }
    return this.desk.send("ties/set", { name, tracks: this.desk.selected });
  }

  bring() {
    const [file] = find("#setfile").files;
    if (!file) return;
    const form = new FormData();
    form.append("file", file);
    form.append("unit", find("#setunit").value);
    form.append("revision", this.desk.revision);
    find("#setfile").value = "";
    this.desk.act(async () => this.desk.answered(await postForm(this.desk.at("ties/bring"), form)));
  }

  grow() {
    if (!this.desk.selected.length) return toast("Select the tracks first.", true);
    return this.change({ grow: this.desk.selected });
  }

  freeze() {
    return this.change({ frozen: !this.known?.set?.frozen });
  }

  remove() {
    const { set } = this.known ?? {};
    if (!set) return toast("This shot is of no set.", true);
    const users = this.known.sets.find((one) => one.id === set.id)?.shots ?? [];
    const also = users.length > 1 ? ` ${users.length} shots are tied to it.` : "";
    if (!confirm(`Delete the set ${set.name}?${also} Every shot stays where it is.`)) return null;
    return this.change({ remove: true });
  }

  change(body) {
    if (!this.known?.set) return toast("This shot is of no set.", true);
    return this.desk.send("ties/set/change", body);
  }

  draw({ sets, set }) {
    const choice = find("#setchoice");
    const options = [new Option("no set", ""), ...sets.map((one) => new Option(`${one.name} · ${one.points}`, one.id))];
    if (set?.removed) options.push(new Option(`${set.name} (deleted)`, set.id));
    choice.replaceChildren(...options);
    choice.value = set?.id ?? "";
    find("#setmake").hidden = Boolean(set);
    find("#setuse").hidden = !set;
    find("#setfacts").replaceChildren(...(set ? this.facts(set) : []));
    if (!set) return;
    find("#setfreeze").textContent = set.frozen ? "Let it go" : "Freeze it";
    find("#setfreeze").title = set.frozen
      ? "Shots may bend it then"
      : "Shots are brought to it then, and never bend it";
    find('[data-act="set-renew"]').disabled = !set.reference;
    find("#setjson").href = `/sets/${set.id}/set.json`;
    find("#setcsv").href = `/sets/${set.id}/points.csv`;
    find("#setcount").textContent = `${set.points.length}`;
    const unit = set.metric ? "m" : "units";
    find("#setpoints").replaceChildren(
      ...set.points.slice(0, MOST_SHOWN).map((point) => pointRow(point, unit)),
      ...(set.points.length > MOST_SHOWN ? [element("p", "label", `and ${set.points.length - MOST_SHOWN} more`)] : []),
    );
  }

  facts(set) {
    const lines = [];
    if (set.own) lines.push(`This shot made it: its world is the set's.`);
    else if (set.reference) lines.push(`${set.reference.name} made it, attempt ${set.reference.attempt}.`);
    else lines.push("It comes from a file.");
    lines.push(`Version ${set.version}, ${set.metric ? "metres" : "no scale"}, ${set.frozen ? "frozen" : "free"}.`);
    const out = [element("p", "my-1.5", lines.join(" "))];
    if (set.removed) out.push(element("p", "say my-1", "It was deleted. Choose another one."));
    else if (set.behind)
      out.push(
        element("p", "say my-1", "Its reference has another attempt pinned. Renew the set, then align its shots."),
      );
    return out;
  }
}

function pointRow({ name, xyz, sigma, source }, unit) {
  const row = element("div", "tierow");
  row.append(
    element("span", "truncate grow", name),
    element("span", "fig label", xyz.map((v) => v.toFixed(3)).join(" ")),
  );
  row.title = `From ${source}; sigma ${sigma ? sigma.map((v) => lengthOf(v, unit)).join(", ") : "not known"}`;
  return row;
}
