// Real-time playback at the plate's rate: late frames are skipped, not queued.
export class Playback {
  constructor(store) {
    this.store = store;
    this.timer = 0;
  }

  toggle() {
    if (this.store.state.playing) return this.stop();
    const { state } = this.store;
    const [low, high] = state.range ?? [state.first, state.last];
    const count = high - low + 1;
    const offset = Math.min(Math.max(state.frame - low, 0), count - 1);
    const began = performance.now();
    this.store.set({ playing: true });
    const tick = (now) => {
      if (!this.store.state.playing) return;
      const frame = low + ((offset + Math.floor(((now - began) / 1000) * state.fps)) % count);
      if (frame !== this.store.state.frame) this.store.set({ frame });
      this.timer = requestAnimationFrame(tick);
    };
    this.timer = requestAnimationFrame(tick);
    return null;
  }

  stop() {
    cancelAnimationFrame(this.timer);
    this.store.set({ playing: false });
  }

  /** Go some frames on or back. */
  step(by) {
    this.stop();
    const { frame, first, last } = this.store.state;
    this.store.set({ frame: Math.min(Math.max(frame + by, first), last) });
  }
}
