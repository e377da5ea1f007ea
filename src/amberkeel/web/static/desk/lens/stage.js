// The lens stage: lines and what they say, the camera's facts, profiles, and the look through the lens.
import { get, post, postForm, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { lensActions } from "./actions.js";
import { BENCHES } from "./benches.js";
import { drawEvidence, fillCamera, setUpCameraBench } from "./camera.js";
import { LineChanges } from "./changes.js";
import { LensFit } from "./fit.js";
import { drawFound, rewriteFigures } from "./found.js";
import { LineDraw } from "./lines.js";
import { drawLineList } from "./list.js";
import { LensLook } from "./look.js";
import { drawProfileList } from "./profiles.js";

const TOOLS = ["edge", "x", "y", "z", "box", "origin"];

export class LensStage {
  constructor(desk) {
    this.desk = desk;
    this.kept = null;
    this.seen = "";
    this.changing = null;
    this.fit = new LensFit(this);
    this.look = new LensLook(this);
    this.changes = new LineChanges(this);
    this.drawer = new LineDraw(desk.viewport, desk.store, this.changes);
    this.guest = this.drawer;
    this.actions = lensActions(this);
    find("#lensfile").addEventListener("change", (e) => {
      const [file] = e.target.files;
      if (file) this.bringProfile(file);
      e.target.value = "";
    });
    this.listen();
  }

  at(path) {
    return this.desk.at(`lens/${path}`);
  }

  get lens() {
    return this.desk.state.lens;
  }

  set(patch) {
    this.desk.store.set({ lens: { ...this.lens, ...patch } });
  }

  /** Make an edit of what is kept of the lens. */
  edit(body) {
    return this.desk.send("lens/edit", body);
  }

  /** Which distortion is asked for. */
  get wanted() {
    const [model, radial] = find("#linemodel").value.split(" ");
    return { model, radial: Number(radial), tangential: find("#linetangential").checked };
  }

  /** Fetch what is kept, when the shot has changed. */
  async refresh() {
    const { state } = this.desk;
    if (state.stage !== "lens" || this.seen === String(state.server?.revision)) return;
    this.seen = String(state.server?.revision);
    const kept = await get(this.desk.at("lens.json"));
    this.kept = kept;
    const chosen = kept.lines[this.lens.chosen] ? this.lens.chosen : null;
    this.set({ lines: kept.lines, origin: kept.origin, measured: kept.measured, chosen });
    if (kept.wanted.model) {
      find("#linemodel").value = `${kept.wanted.model} ${kept.wanted.model === "division" ? 0 : kept.wanted.radial}`;
      find("#linetangential").checked = Boolean(kept.wanted.tangential);
    }
    if (kept.measured) find("#measurelength").value = kept.measured.length;
    fillCamera(kept);
    this.drawProfiles();
    await this.fit.ask();
  }

  async reload() {
    this.seen = "";
    await this.refresh();
  }

  drawProfiles() {
    const { kept } = this;
    drawProfileList(find("#profilelist"), kept, this.changing, {
      use: (body) => this.use(body),
      edit: (id) => {
        this.changing = id;
        this.drawProfiles();
      },
      save: (body) => this.saveProfile(body),
    });
    for (const id of ["#stfile", "#platefile"]) find(id).classList.toggle("dim", !kept.straightened);
    find("#straightfiles a").classList.toggle("dim", !kept.profile);
  }

  /** Bring a profile's file or an ST map in, and use it. */
  bringProfile(file) {
    const { desk } = this;
    const form = new FormData();
    form.append("file", file);
    form.append("way", find("#lensway").value);
    form.append("revision", desk.revision);
    return desk.act(async () => {
      await desk.answered(await postForm(this.at("bring"), form));
      find("#distortion").value = "profile";
      toast("In use; the next solve holds it.");
    });
  }

  saveProfile(body) {
    const { desk } = this;
    return desk.act(async () => {
      await desk.answered(await post(this.at("profile"), { ...body, revision: desk.revision }));
      this.changing = null;
      await this.reload();
    });
  }

  /** Use a lens in the next solve: what the lines say, one by hand, an attempt's, a profile, or none. */
  use(body) {
    const { desk } = this;
    return desk.act(async () => {
      await desk.answered(await post(this.at("use"), { ...body, revision: desk.revision }));
      find("#distortion").value = body.none ? "estimate" : "profile";
      const none = "No profile is in use now; the next solve estimates the lens.";
      toast(body.none ? none : "In use; the next solve holds it.");
    });
  }

  /** Keep the pinned attempt's lens as a profile. */
  useSolved() {
    const { pinned } = this.desk.state.server;
    return pinned ? this.use({ attempt: pinned }) : toast("There is no pinned attempt: solve first.", true);
  }

  changed(keys) {
    const stepped = keys.has("frame") && this.desk.state.stage === "lens";
    if (stepped || ["stage", "lens", "server"].some((k) => keys.has(k))) this.draw(keys);
  }

  draw(keys) {
    const { state } = this.desk;
    this.drawSwitches();
    if (state.stage !== "lens") return;
    // While a point is dragged the figures change and the list does not: laying it out anew would slow the drag.
    if (this.drawer.dragging) {
      rewriteFigures(this.lens.fit);
      return;
    }
    if (!keys || keys.has("lens") || keys.has("frame")) {
      drawLineList(this.lens, state.frame, (chosen, frame) => {
        this.set({ chosen });
        this.desk.store.set({ frame });
      });
      drawFound(this.lens, state.width);
      if (this.kept) drawEvidence(this.kept, this.lens.fit);
    }
    if (!keys || keys.has("server") || keys.has("stage")) this.refresh().catch((e) => toast(e.message, true));
    if (keys?.has("frame") && !state.playing && this.lens.fit && !this.lens.hand) this.fit.ask(true);
    this.look.draw();
  }

  drawSwitches() {
    const { lens } = this;
    for (const bench of Object.keys(BENCHES)) {
      find(`[data-lens="${bench}"]`).hidden = lens.bench !== bench;
      find(`[data-act="lens-${bench}"]`).classList.toggle("on", lens.bench === bench);
    }
    for (const tool of TOOLS) find(`[data-act="line-${tool}"]`).classList.toggle("on", lens.tool === tool);
    const looks = { lines: lens.shown, floor: lens.floor, grid: lens.grid, straight: lens.look === "straight" };
    for (const [name, on] of Object.entries(looks)) find(`[data-act="look-${name}"]`).classList.toggle("on", on);
  }

  /** Rows can be set upright where the pinned camera's shutter rolls. */
  settle(server) {
    const pinned = server.attempts.find((a) => a.id === server.pinned);
    find("#uprightfield").hidden = !pinned?.figures.readout;
  }

  /** Delete removes the chosen line or box, or the origin; tells whether there was one. */
  remove() {
    return this.changes.removeChosen();
  }

  listen() {
    const { desk } = this;
    for (const id of ["#linemodel", "#linetangential"]) {
      const ask = () => this.edit({ wanted: this.wanted, label: "Ask for another distortion model" });
      find(id).addEventListener("change", ask);
    }
    for (const id of ["#measureline", "#measurelength"])
      find(id).addEventListener("change", () => this.changes.measure());
    setUpCameraBench();
    find("#overscan").addEventListener("change", (e) => {
      find("#overscanshare").hidden = e.target.value !== "share";
    });
    this.look.listen();
    const pattern = find('#chartform [name="pattern"]');
    pattern.addEventListener("change", () => {
      find("#innerfield").hidden = pattern.value === "loose";
    });
    find("#chartform").addEventListener("submit", (e) => {
      e.preventDefault();
      desk.act(async () => {
        await postForm(this.at("chart"), new FormData(e.target));
        toast("Looking for the grid; it runs beside your work.");
      });
    });
  }
}
