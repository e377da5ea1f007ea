// The other shots of the set: where their cameras are, and how well each is tied.
import { toast } from "../shell/api.js";
import { element, find } from "../shell/dom.js";
import { counted } from "../shell/words.js";
import { lengthOf } from "./words.js";

/** Colours and dashes of the shots' paths in 3D, in their order. */
export const SHOT_LOOKS = [
  { colour: "#4fb3a5", sign: "●" },
  { colour: "#d5559a", sign: "■" },
  { colour: "#ebe5d8", sign: "▲" },
  { colour: "#8fa8c9", sign: "◆" },
  { colour: "#b7c46a", sign: "✚" },
];

export class SeenBench {
  constructor(desk) {
    this.desk = desk;
    this.actions = [
      { id: "ties-space", name: "Ties: all cameras of the set in 3D", run: () => this.inSpace() },
      { id: "ties-again", name: "Ties: align again what is behind", run: () => desk.send("ties/again", {}) },
      { id: "ties-together", name: "Ties: adjust all shots of the set together", run: () => this.together() },
    ];
  }

  inSpace() {
    const { space, state, stages } = this.desk;
    stages.ties.other.hide();
    space.show("space");
    space.scene.setShots(state.ties.known?.others ?? []);
    space.scene.wholeSet();
  }

  together() {
    if (!this.desk.state.ties.known?.set) return toast("This shot is of no set.", true);
    return this.desk.start("ties/together", { share_lens: find("#sharelens").checked });
  }

  draw({ set, others, sets }) {
    const users = sets.find((one) => one.id === set?.id)?.shots ?? [];
    find("#othersays").textContent = set
      ? `${counted(users.length, "shot")} of ${set.name}; ${others.length} beside this one in its world.`
      : "This shot is of no set.";
    find("#otherlist").replaceChildren(...others.map((one, k) => this.row(one, k)));
    find('[data-act="ties-space"]').disabled = !others.length;
    find('[data-act="ties-together"]').disabled = !others.length || set.frozen || set.removed;
    find("#togethersays").textContent = set?.frozen
      ? `${set.name} is frozen: shots are brought to it. Let it go (Set) and they may bend it together.`
      : set && others.length
        ? `${set.name} is free: its points move with all its shots, and each shot gets another attempt.`
        : "";
  }

  row(one, k) {
    const look = SHOT_LOOKS[k % SHOT_LOOKS.length];
    const row = element("a", "tierow");
    row.href = `/shots/${one.id}/ties`;
    const sign = element("i", "", look.sign);
    sign.style.color = look.colour;
    const words = one.reference
      ? "the reference"
      : `${counted(one.aligned.count, "tie")}, ${lengthOf(one.aligned.rms, one.aligned.unit)}`;
    row.append(sign, element("span", "truncate grow", one.name), element("span", "label", words));
    if (one.stale) {
      row.append(element("b", "text-orchid", "align again"));
      row.title = one.stale;
    }
    return row;
  }
}
