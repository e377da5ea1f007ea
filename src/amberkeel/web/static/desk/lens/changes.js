// Changes to drawn lines, boxes, the origin and the measured line, as the pointer makes them.
import { post, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";

export class LineChanges {
  constructor(stage) {
    this.stage = stage;
    this.desk = stage.desk;
  }

  get lines() {
    return this.stage.lens.lines;
  }

  /** Lines are being dragged. */
  drag(changed) {
    this.stage.set({ lines: { ...this.lines, ...changed } });
    this.stage.fit.ask(true);
  }

  /** Point `k` of a line is let go. */
  async settle(name, k) {
    const line = this.lines[name];
    if (line.box) {
      // What is kept are the corners that the last answer put, not those of one on its way.
      await this.stage.fit.ask();
      const own = Object.entries(this.lines).filter(([, other]) => other.box === line.box);
      return this.keep(Object.fromEntries(own), `Move a corner of ${line.box}`);
    }
    const points = find("#linesnap").checked ? await this.snapped(line, k) : line.points;
    return this.keep({ [name]: { ...line, points } }, `Move a point of ${name}`);
  }

  /** Keep lines, or take away those that are null. */
  keep(lines, label) {
    const now = { ...this.lines };
    for (const [name, line] of Object.entries(lines))
      if (line) now[name] = line;
      else delete now[name];
    this.stage.set({ lines: now });
    return this.stage.edit({ lines, label });
  }

  /** The origin while it is dragged, and where it is let go: a pixel of this frame, or a line's end. */
  origin(origin, done) {
    this.stage.set({ origin });
    if (!done) return this.stage.fit.ask(true);
    this.stage.set({ tool: null });
    return this.stage.edit({ origin, label: origin ? "Set the origin" : "Take the origin away" });
  }

  /** A box dragged from a corner on the floor to the opposite one on top. */
  box(from, to) {
    const { desk, stage } = this;
    return desk.act(async () => {
      const body = {
        frame: desk.state.frame,
        from,
        to,
        lines: this.lines,
        wanted: stage.wanted,
        focal_state: stage.kept?.focal_state,
      };
      const made = await post(stage.at("box"), body);
      stage.set({ lines: { ...this.lines, ...made.lines }, chosen: Object.keys(made.lines)[0], tool: null });
      await this.store(made.lines, `Put ${made.name}`);
    });
  }

  /** A line drawn from end to end. */
  draw(from, to) {
    const { desk, stage } = this;
    const axis = stage.lens.tool === "edge" ? "" : stage.lens.tool;
    const name = this.freeName(axis ? axis.toUpperCase() : "edge ");
    return desk.act(async () => {
      const middle = [(from[0] + to[0]) / 2, (from[1] + to[1]) / 2];
      const line = { frame: desk.state.frame, axis, points: axis ? [from, to] : [from, middle, to] };
      if (find("#linesnap").checked) {
        try {
          line.points = (await post(stage.at("snap"), { frame: desk.state.frame, points: [from, to] })).points;
        } catch (error) {
          toast(error.message, true);
        }
      }
      stage.set({ lines: { ...this.lines, [name]: line }, chosen: name });
      await this.store({ [name]: line }, `Draw ${name}`);
    });
  }

  /** Keep lines on the server as part of what is being done there. */
  async store(lines, label) {
    const { desk, stage } = this;
    await desk.take(await post(stage.at("edit"), { lines, label, revision: desk.revision }));
  }

  freeName(stem) {
    let n = 1;
    while (`${stem}${n}` in this.lines) n += 1;
    return `${stem}${n}`;
  }

  async snapped(line, k) {
    try {
      return (await post(this.stage.at("snap"), { frame: line.frame, points: line.points, point: k })).points;
    } catch {
      return line.points;
    }
  }

  /** The measured line is another, or another length was typed. */
  measure() {
    const [line, length] = [find("#measureline").value, find("#measurelength").value.trim()];
    const measured = line && length ? { line, length } : null;
    if (!measured && !this.stage.lens.measured) return;
    this.stage.edit({ measured, label: measured ? `${line} is ${length} long` : "Forget the measured line" });
  }

  removeChosen() {
    const { chosen } = this.stage.lens;
    if (!chosen) return false;
    if (chosen === "origin") {
      this.origin(null, true);
      return true;
    }
    const { box } = this.lines[chosen] ?? {};
    const gone = box ? Object.keys(this.lines).filter((n) => this.lines[n].box === box) : [chosen];
    this.keep(Object.fromEntries(gone.map((n) => [n, null])), `Delete ${box ?? chosen}`);
    this.stage.set({ chosen: null });
    return true;
  }
}
