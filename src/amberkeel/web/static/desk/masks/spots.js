// Spots that are the subject, or are not: clicked on the plate, learned from at once, shown on this frame.
import { post, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";

/** Clicks that follow within this time are learned from together; a frame rested on so long is looked at, ms. */
const SOON_MS = 120;
const REST_MS = 250;

export class Spots {
  constructor(stage) {
    this.stage = stage;
    this.tries = 0;
    this.soon = 0;
    this.resting = 0;
    this.asked = false;
    this.waiting = false;
  }

  /** Change the spots of the chosen matte; where it is none of samples, a new one is made. */
  click(alter) {
    const { stage } = this;
    const { desk } = stage;
    return desk.act(async () => {
      if (stage.chosen?.kind !== "matte" || stage.chosen.source !== "from samples") {
        const answer = await desk.answered(await post(desk.at("masks"), { revision: desk.revision }));
        desk.store.set({ mask: answer.mask });
      }
      const mask = stage.chosen;
      const samples = alter(mask.samples);
      mask.samples = samples;
      desk.viewport.redraw();
      const body = { values: { samples }, label: `Sample ${mask.name}`, revision: desk.revision };
      await desk.answered(await post(desk.at(`masks/${mask.id}`), body));
      clearTimeout(this.soon);
      if (find("#trylive").checked) {
        this.soon = setTimeout(() => this.learn().catch((e) => toast(e.message, true)), SOON_MS);
      }
    });
  }

  /** Learn from the spots and show the matte of this frame. */
  async learn() {
    const { stage } = this;
    const mask = stage.chosen;
    if (!mask?.samples.some((s) => s[3])) {
      find("#tried").textContent = "Click a spot that is the subject.";
      return;
    }
    // Spots of the subject alone need what moves; once that is known, it goes on by itself.
    this.waiting = !stage.desk.state.masks.looked && mask.samples.every((s) => s[3]);
    if (this.waiting) {
      find("#tried").textContent = "Looking for what moves…";
      return;
    }
    const mine = (this.tries += 1);
    find("#tried").textContent = "Learning…";
    const began = performance.now();
    const found = await post(stage.desk.at(`masks/${mask.id}/try`), { frame: stage.desk.state.frame }).catch((e) => {
      find("#tried").textContent = "";
      throw e;
    });
    if (mine !== this.tries) return;
    stage.editor.tried = found;
    const seconds = ((performance.now() - began) / 1000).toFixed(1);
    find("#tried").textContent = `Frame ${found.frame}: ${(100 * found.share).toFixed(1)} % in ${seconds} s`;
    stage.desk.viewport.redraw();
  }

  /** What moves may be known now. */
  renewed() {
    if (this.waiting && this.stage.desk.state.masks.looked) this.learn().catch((e) => toast(e.message, true));
  }

  /** What moves is looked for once the stage is open: the answer to the first click then comes at once. */
  rest() {
    const { desk } = this.stage;
    const { state } = desk;
    clearTimeout(this.resting);
    if (state.stage !== "masks" || this.asked || !state.masks || state.masks.looked) return;
    this.resting = setTimeout(() => {
      this.asked = true;
      post(desk.at("look"), { frame: state.frame }).catch(() => null);
    }, REST_MS);
  }
}
