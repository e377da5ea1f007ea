// What the lines say of the lens: asked of the server while they change, the newest answer shown.
import { post } from "../shell/api.js";
import { followed } from "./boxes.js";

/** Questions on their way at once: while a line is dragged, and otherwise. */
const QUICK = 3;
const FULL = 1;

/** Questions about k1 turned by hand on their way at once. */
const BY_HAND = 2;

export class LensFit {
  constructor(stage) {
    this.stage = stage;
    this.flying = 0;
    this.asked = 0;
    this.answered = 0;
    this.next = null;
  }

  /** Ask what the lines say; quickly while one is dragged: the next question leaves while an answer is on its way. */
  ask(quick = false) {
    const { stage } = this;
    if (stage.lens.hand) return this.byHand(stage.lens.hand);
    if (Object.keys(stage.lens.lines).length < 2) {
      stage.set({ fit: null, trouble: "" });
      return null;
    }
    const body = () => {
      const { lines, grid, measured, origin } = stage.lens;
      const { frame } = stage.desk.state;
      return {
        lines,
        wanted: stage.wanted,
        focal_state: stage.kept?.focal_state,
        frame,
        quick,
        grid,
        measured,
        origin,
      };
    };
    return this.question("fit", body, quick ? QUICK : FULL);
  }

  /** Show lines and grid through a lens of this k1. */
  byHand(k1) {
    const { stage } = this;
    return this.question("hand", () => ({ k1, lines: stage.lens.lines, frame: stage.desk.state.frame }), BY_HAND);
  }

  /** Ask the server and show its newest answer; a question that finds too many before it waits, only the newest one. */
  async question(path, body, most) {
    this.next?.done();
    this.next = null;
    if (this.flying >= most) {
      await new Promise((done) => {
        this.next = { path, body, most, done };
      });
      return;
    }
    this.flying += 1;
    const own = (this.asked += 1);
    const { stage } = this;
    try {
      const fit = await post(stage.at(path), body());
      if (own > this.answered) {
        this.answered = own;
        const lines = followed(stage.lens.lines, fit.boxes);
        stage.set({ fit: fit.trouble ? null : fit, trouble: fit.trouble ?? "", lines });
      }
    } catch (error) {
      if (own > this.answered) {
        this.answered = own;
        stage.set({ trouble: error.message, fit: path === "hand" ? stage.lens.fit : null });
      }
    } finally {
      this.flying -= 1;
      this.goOn();
    }
  }

  /** Ask the question that waits, if one does. */
  goOn() {
    if (!this.next) return;
    const { path, body, most, done } = this.next;
    this.next = null;
    this.question(path, body, most).then(done);
  }
}
