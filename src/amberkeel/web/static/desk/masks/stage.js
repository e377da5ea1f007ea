// The masks stage: its list, tools and proposals, and what runs under masks.
import { get, post, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { maskActions } from "./actions.js";
import { MaskEditor } from "./edit.js";
import { listenToFields } from "./fields.js";
import { drawMaskFields, drawMaskList, drawMaskNotes, drawProposals } from "./panel.js";
import { Spots } from "./spots.js";

const TOOLS = ["shape", "polygon", "curve", "rectangle", "ellipse", "is", "isnot"];

export class MasksStage {
  constructor(desk) {
    this.desk = desk;
    this.under = null;
    this.looking = 0;
    this.spots = new Spots(this);
    this.editor = new MaskEditor(desk.store, desk.viewport, {
      add: (points) => this.add(points),
      change: (mask, values, label) => this.change(mask, values, label),
      spot: (alter) => this.spots.click(alter),
    });
    this.guest = this.editor;
    this.actions = maskActions(this);
    listenToFields(this);
    find("#leaklist").addEventListener("click", (e) => {
      const frame = Number(e.target.dataset.leak);
      if (frame) desk.store.set({ frame });
    });
    desk.viewport.canvas.addEventListener("dblclick", () => this.editor.active && this.editor.finish());
  }

  /** The chosen mask, if there is one. */
  get chosen() {
    return this.desk.state.masks?.masks.find((m) => m.id === this.desk.state.mask);
  }

  /** Do something with the chosen mask, or say that there is none. */
  withMask(work) {
    return this.chosen ? work(this.chosen) : toast("Choose a mask first.", true);
  }

  add(points) {
    const { desk } = this;
    return desk.act(async () => {
      const body = { points, frame: desk.state.frame, revision: desk.revision };
      const answer = await desk.answered(await post(desk.at("masks"), body));
      desk.store.set({ mask: answer.mask, maskTool: "shape" });
    });
  }

  change(mask, values, label) {
    return this.desk.send(`masks/${mask.id}`, { values, label });
  }

  /** Fetch the masks of the shot. */
  async renew() {
    const { desk } = this;
    const masks = await get(desk.at("masks.json"));
    const known = masks.masks.some((m) => m.id === desk.state.mask);
    this.editor.tried = null;
    this.under = null;
    desk.store.set({ masks, mask: known ? desk.state.mask : (masks.masks.at(-1)?.id ?? null) });
    this.goHome();
    this.draw();
    this.spots.renewed();
    if (masks.changed) this.lookUnder();
  }

  /** Ask which tracks run under masks now; it takes a moment and nothing waits for it. */
  async lookUnder() {
    const mine = (this.looking += 1);
    const found = await get(this.desk.at("affected.json")).catch(() => null);
    if (mine !== this.looking) return;
    this.under = found;
    drawMaskNotes(this.desk.state, found);
  }

  changed(keys) {
    if (["mask", "maskTool", "proposal", "stage"].some((k) => keys.has(k))) this.draw();
    if (["frame", "maskTool", "stage"].some((k) => keys.has(k))) this.spots.rest();
  }

  draw() {
    const { state, store, viewport } = this.desk;
    drawMaskList(state, {
      choose: (id) => store.set({ mask: id }),
      toggle: (m) => this.change(m, { on: !m.on }, `Switch ${m.name} ${m.on ? "off" : "on"}`),
    });
    drawMaskFields(state);
    drawProposals(state, {
      show: (p) => this.show(p),
      select: (p) => {
        store.set({ proposal: p.id, selection: new Set(p.tracks) });
        this.desk.goStage("tracks");
      },
      mask: (p) => this.decide(p, "mask"),
      maskAll: async (all) => {
        for (const p of all) await this.decide(p, "mask");
      },
      dismiss: (p) => this.decide(p, "dismissed"),
    });
    drawMaskNotes(state, this.under);
    for (const tool of TOOLS) find(`[data-act="mask-${tool}"]`).classList.toggle("on", state.maskTool === tool);
    if (state.stage === "masks") viewport.canvas.style.cursor = state.maskTool !== "shape" ? "crosshair" : "";
  }

  /** Keep the picture where a shape is being followed, until somebody looks elsewhere. */
  working(job) {
    const { state, store } = this.desk;
    if (job.kind === "carry" && job.state !== "running") return this.goHome();
    const frame = job.frame;
    if (job.kind !== "carry" || state.stage !== "masks" || !Number.isInteger(frame)) return;
    if (this.shown?.job !== job.id) this.shown = { job: job.id, frame: state.frame, home: state.frame };
    if (this.shown.frame !== state.frame) return;
    this.shown.frame = frame;
    store.set({ frame });
  }

  /** The shape was followed: back to the frame from which it was. */
  goHome() {
    const { state, store } = this.desk;
    if (this.shown && state.frame === this.shown.frame) store.set({ frame: this.shown.home });
    this.shown = null;
  }

  /** Go through the frames on which something that moves leaves its mask, the worst first. */
  nextLeak() {
    const { state, store } = this.desk;
    const leaks = state.masks?.leaks ?? [];
    if (!leaks.length) {
      return toast(
        state.masks?.looked
          ? "Nothing that moves leaves its mask."
          : "What moves was not looked for yet: ask “What moves?”.",
      );
    }
    const at = leaks.findIndex(([frame]) => frame === state.frame);
    store.set({ frame: leaks[(at + 1) % leaks.length][0] });
    return null;
  }

  /** Show a proposal on a frame that it lives on. */
  show(proposal) {
    const { frames, id } = proposal;
    const there = frames.includes(this.desk.state.frame) ? {} : { frame: frames[Math.floor(frames.length / 2)] };
    this.desk.store.set({ proposal: id, ...there });
  }

  decide(proposal, to) {
    const { desk } = this;
    return desk.act(async () => {
      const answer = await desk.answered(await post(desk.at(`proposals/${proposal.id}`), { to }));
      if (answer.mask) desk.store.set({ mask: answer.mask });
    });
  }

  /** Delete removes a point of a shape, or the mask. */
  remove() {
    if (!this.editor.removePoint()) this.delete();
    return true;
  }

  delete() {
    return this.withMask((m) => this.desk.send(`masks/${m.id}/delete`, {}));
  }
}
