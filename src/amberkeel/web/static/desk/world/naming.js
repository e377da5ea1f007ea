// Which point lies under the pointer, told before it is taken: look-alikes are taken for each other too easily.
export class Naming {
  constructor(desk) {
    this.desk = desk;
    this.images = new Map();
  }

  /** The pointer moved over the plate. */
  move(at) {
    const { store, state, viewport } = this.desk;
    const [id] = viewport.nearest(at);
    const before = state.world.hover?.id ?? null;
    if ((id ?? null) === before) return;
    store.set({ world: { ...state.world, hover: id == null ? null : { id, image: this.patch(id) } } });
  }

  patch(id) {
    if (!this.images.has(id)) {
      const image = new Image();
      image.src = this.desk.at(`world/patch/${id}.png`);
      image.addEventListener("load", () => this.desk.viewport.redraw());
      this.images.set(id, image);
    }
    return this.images.get(id);
  }
}
