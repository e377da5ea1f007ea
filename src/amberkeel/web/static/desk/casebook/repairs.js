// Repairs that a person asks for without a finding: the limit, seen before it cuts, and the path bridged or smoothed.
import { get, post, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";

const REST_MS = 150;

/** Residuals that stand out: over expected noise, and over the middle one of those frames. */
const [STANDS_OUT, OVER_MIDDLE] = [3, 2.5];

/** Zoom at the least at which a track is held still. */
const HELD_ZOOM = 5;

export class Repairs {
  constructor(desk) {
    this.desk = desk;
    this.timer = 0;
    this.asked = 0;
    for (const id of ["#limit", "#limitunit", "#limitleast"]) find(id).addEventListener("input", () => this.wait());
    find("#limitbox").addEventListener("toggle", () => this.wait());
    find("#limitshow").addEventListener(
      "click",
      () => this.over && desk.store.set({ selection: new Set(this.over.touched) }),
    );
  }

  actions = [
    {
      id: "limit-cut",
      name: "Casebook: cut what is over the limit",
      run: () => this.ask({ code: "limit", ...this.limit() }),
    },
    {
      id: "limit-down",
      name: "Casebook: lower the limit as long as it helps",
      run: () => this.ask({ code: "limit-down" }),
    },
    {
      id: "repair-bridge",
      name: "Casebook: bridge the chosen frames",
      run: () => this.ask({ code: "bridge", frames: this.frames(), channels: find("#bridgechannels").value }),
    },
    {
      id: "repair-less",
      name: "Casebook: let the chosen frames count less",
      run: () => this.ask({ code: "down-weight", frames: this.frames() }),
    },
    {
      id: "repair-again",
      name: "Casebook: measure the chosen frames again from the camera",
      run: () => this.ask({ code: "again", frames: this.frames() }),
    },
    { id: "repair-blur", name: "Casebook: measure blurred frames anew", run: () => this.ask({ code: "through-blur" }) },
    { id: "repair-more", name: "Casebook: follow more features", run: () => this.ask({ code: "add" }) },
    {
      id: "repair-smooth",
      name: "Casebook: smooth the path and aim again",
      run: () => this.ask({ code: "smooth", value: find("#smoothness").value, frames: this.desk.state.range ?? [] }),
    },
    {
      id: "hold-still",
      name: "Hold the selected track still while the plate moves",
      keys: "Shift H",
      run: () => this.holdStill(),
    },
    {
      id: "next-spike",
      name: "Casebook: go to the next spike of the path",
      keys: "Shift J",
      run: () => this.nextSpike(),
    },
    {
      id: "spiky",
      name: "Select the tracks that make the residual on the chosen frames",
      keys: "Shift R",
      run: () => this.selectSpiky(),
    },
  ];

  limit() {
    return { value: find("#limit").value, unit: find("#limitunit").value, least: find("#limitleast").value };
  }

  /** The chosen frames, or the one at the playhead. */
  frames() {
    const { range, frame } = this.desk.state;
    return range ?? [frame, frame];
  }

  ask(body) {
    return this.desk.act(async () => {
      await this.desk.take(await post(this.desk.at("repair"), body));
      toast("A trial; it runs beside your work. Its card is in the casebook.");
    });
  }

  /** Keep one track in the middle of the view, large, or let the view go again. */
  holdStill() {
    const { state, store, selected } = this.desk;
    const still = state.still === null && selected.length === 1 ? selected[0] : null;
    if (still === null && state.still === null) return toast("Select one track to hold still.");
    store.set({ still });
    if (still === null) return this.desk.viewport.fit();
    this.desk.viewport.zoom = Math.max(this.desk.viewport.zoom, HELD_ZOOM);
    return this.keepStill();
  }

  keepStill() {
    const { still, tracks, frame } = this.desk.state;
    for (const s of tracks?.samples[frame - tracks.origin] ?? [])
      if (tracks.ids[tracks.track[s]] === still) this.desk.viewport.centre(tracks.x[s], tracks.y[s]);
  }

  /** Go to the spike after the playhead, round and round. */
  async nextSpike() {
    const { attempt, frame } = this.desk.state;
    if (!attempt) return;
    const sure = this.desk.state.sure ?? (await get(`/attempts/${attempt.id}/sure.json`));
    const frames = (sure.spikes ?? []).map((one) => one.frame);
    if (!frames.length) return toast("The path has no spikes.");
    this.desk.store.set({ frame: frames.find((f) => f > frame) ?? frames[0] });
  }

  changed(keys) {
    if (keys.has("frame") && this.desk.state.still !== null) this.keepStill();
    if (keys.has("attempt") || keys.has("server")) this.wait();
    if (["range", "frame", "attempt"].some((key) => keys.has(key))) {
      const { range, frame } = this.desk.state;
      find("#repairframes").textContent = range ? `frames ${range[0]}–${range[1]}` : `frame ${frame}`;
    }
  }

  /** Ask what the limit would take out, once typing rests. */
  wait() {
    clearTimeout(this.timer);
    if (!find("#limitbox").open) return this.show(null);
    this.timer = setTimeout(() => this.preview(), REST_MS);
    return null;
  }

  async preview() {
    const { attempt } = this.desk.state;
    const { value, unit, least } = this.limit();
    if (!attempt || !value.trim()) return this.show(null);
    const turn = ++this.asked;
    const query = new URLSearchParams({ value, unit, least });
    try {
      const over = await get(`/attempts/${attempt.id}/limit.json?${query}`);
      if (turn === this.asked) this.show(over);
    } catch (error) {
      if (turn === this.asked) this.show(null, error.message);
    }
    return null;
  }

  /** Say what would go, ring it on the plate, and warn where only luck is left. */
  show(over, trouble = "") {
    this.over = over;
    this.desk.store.set({ flagged: over ? new Set(over.touched) : null });
    const box = find("#limitsays");
    find("#limitshow").hidden = !over?.touched.length;
    box.classList.toggle("doubt", Boolean(trouble || over?.luck));
    if (!over) return (box.textContent = trouble);
    const parts = [
      over.measurements
        ? `${over.measurements} measurements (${(100 * over.share).toFixed(1)} %) would go: ` +
          `stretches of ${over.touched.length - over.tracks.length} tracks, ${over.tracks.length} whole ones.`
        : "Nothing is over it.",
      over.spared_words ? `Nothing is cut on ${over.spared_words}: fewer than 8 tracks would be left.` : "",
      over.luck ? "This limit lies within the noise: what it cuts is luck, not error." : "",
    ];
    return (box.textContent = parts.filter(Boolean).join(" "));
  }

  /** Select the tracks whose residuals stand out on the chosen frames, and their measurements there. */
  selectSpiky() {
    const { attempt } = this.desk.state;
    if (!attempt) return;
    const [a, z] = this.frames();
    const there = [];
    for (const [id, own] of attempt.errors)
      for (const [f, e] of own) if (f >= a && f <= z && !e[3]) there.push([id, f, e[2]]);
    const level = Math.max(STANDS_OUT, OVER_MIDDLE * (d3.median(there, (one) => one[2]) ?? 0));
    const samples = new Map();
    for (const [id, f, sigmas] of there) if (sigmas > level) samples.set(id, (samples.get(id) ?? new Set()).add(f));
    this.desk.store.set({ selection: new Set(samples.keys()), samples });
    const where = a === z ? a : `${a}–${z}`;
    toast(
      samples.size
        ? `${samples.size} tracks stand out on ${where}; “cut the chosen samples” takes just those stretches.`
        : "No track stands out there: the frame is at fault, not single tracks.",
    );
  }
}
