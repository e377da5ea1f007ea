// The casebook's part of the solve stage: trials asked for, kept and dropped, and jumps to what shows a finding.
import { get, post, toast } from "../shell/api.js";
import { Charts } from "./charts.js";
import { drawCasebook } from "./findings.js";
import { Repairs } from "./repairs.js";

export class Casebook {
  constructor(desk) {
    this.desk = desk;
    this.repairs = new Repairs(desk);
    this.charts = new Charts(desk);
    this.actions = [
      ...this.repairs.actions,
      { id: "improve", name: "Casebook: work on it by itself", run: () => this.act.improve() },
      { id: "try-all", name: "Casebook: try the first remedy of every finding", run: () => this.act.tryAll() },
      { id: "verdict", name: "Casebook: the verdict page", run: () => window.open(desk.at("verdict")) },
    ];
    const tried = (body) =>
      desk.act(async () => {
        await desk.take(await post(desk.at("try"), body));
        toast("A trial; it runs beside your work.");
      });
    this.act = {
      try: (kind, at, remedy) => tried({ picks: [{ kind, at, remedy }] }),
      tryAll: () => tried({}),
      again: (trial) => this.again(trial),
      improve: () => desk.start("improve", {}),
      diagnose: () => desk.start("diagnose", {}),
      keep: (trial) => this.decide("keep", trial),
      drop: (trial) => this.decide("drop", trial),
      cancel: (trial) => desk.act(() => post(`/jobs/${trial.job}/cancel`, {})),
      overlay: (trial) => this.overlay(trial),
      select: (ids) => desk.store.set({ selection: new Set(ids) }),
      frames: (finding) => this.goTo(finding.frames),
      show: (finding) => {
        if (finding.tracks.length) desk.store.set({ selection: new Set(finding.tracks) });
        if (finding.frames.length) this.goTo(finding.frames);
      },
    };
  }

  again(trial) {
    return this.desk.act(async () => {
      await this.desk.take(await post(this.desk.at("again"), { trial: trial.id }));
      toast("Tried again on what is there now.");
    });
  }

  decide(how, trial) {
    this.desk.store.set({ overlay: null });
    return this.desk.send(how, { trial: trial.id });
  }

  /** Both attempts' residuals in the lane and both paths in 3D, or one again. */
  overlay(trial) {
    const { state, store } = this.desk;
    if (state.overlay?.id === trial.id) {
      store.set({ overlay: null });
      return null;
    }
    return this.desk.act(async () => {
      const paths = await get(this.desk.at(`trials/${trial.id}/paths.json`));
      store.set({ overlay: { id: trial.id, ...trial.comparison, paths }, lane: "residual" });
    });
  }

  goTo(frames) {
    const { store, state } = this.desk;
    const [a, z] = [frames[0], frames.at(-1)];
    const range = z - a > 0.9 * (state.last - state.first) ? null : [a, z];
    store.set({ frame: a, range: range && range[0] !== range[1] ? range : frames.length > 1 ? range : null });
  }

  changed(keys) {
    this.repairs.changed(keys);
    this.charts.changed(keys);
    if (keys.has("attempt") && this.desk.state.server) this.draw(this.desk.state.server);
  }

  draw(server) {
    drawCasebook(server, this.desk.state, this.act);
  }
}
