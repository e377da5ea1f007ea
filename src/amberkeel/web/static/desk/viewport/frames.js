// Decoded proxies: kept within a budget, fetched ahead of the playhead.
const BUDGET = 420e6;
const ATONCE = 4;

export class Frames {
  constructor(first, onload) {
    this.first = first;
    this.hashes = [];
    this.kept = new Map();
    this.busy = new Set();
    this.onload = onload;
    this.room = 60;
    this.head = first;
  }

  use(hashes) {
    if (this.hashes.length) return;
    this.hashes = hashes;
    this.want(this.head);
  }

  /** Return a frame's bitmap if it is there, and fetch it and those around it. */
  want(frame) {
    this.head = frame;
    this.fill();
    return this.kept.get(frame) ?? null;
  }

  fill() {
    const count = this.hashes.length;
    for (let k = 0; k < Math.min(this.room, count) && this.busy.size < ATONCE; k += 1) {
      const frame = this.first + ((((this.head - this.first + k) % count) + count) % count);
      if (!this.kept.has(frame) && !this.busy.has(frame)) this.load(frame);
    }
  }

  async load(frame) {
    this.busy.add(frame);
    try {
      const answer = await fetch(`/frames/${this.hashes[frame - this.first]}.jpg`);
      const bitmap = await createImageBitmap(await answer.blob());
      this.room = Math.max(8, Math.floor(BUDGET / (4 * bitmap.width * bitmap.height)));
      while (this.kept.size >= this.room) {
        const far = [...this.kept.keys()].reduce((a, b) => (Math.abs(a - this.head) > Math.abs(b - this.head) ? a : b));
        this.kept.get(far).close();
        this.kept.delete(far);
      }
      this.kept.set(frame, bitmap);
      this.onload(frame);
    } finally {
      this.busy.delete(frame);
      this.fill();
    }
  }
}
