// The desk's one state object; everything drawn is a function of it.
export function createStore(initial) {
  const state = { ...initial };
  const listeners = new Set();
  return {
    state,
    /** Change some of the state and tell who listens which keys changed. */
    set(patch) {
      const changed = Object.keys(patch).filter((k) => state[k] !== patch[k]);
      if (!changed.length) return;
      Object.assign(state, patch);
      for (const listen of listeners) listen(new Set(changed));
    },
    on(listen) {
      listeners.add(listen);
    },
  };
}
