// Intake: each plate as a strip of frames with handles for its first and last one, and playing between them.

const THUMBS = 14;
const KEPT = 400;

/** The frame under a place of the strip, as a share of its width. */
export function frameUnder(share, first, last) {
  return Math.min(Math.max(Math.round(first + share * (last - first)), first), last);
}

class Strip {
  constructor(card) {
    this.card = card;
    const { first, last, fps, peek } = card.dataset;
    [this.first, this.last] = [Number(first), Number(last)];
    this.address = peek;
    this.pictures = new Map();
    this.inputs = { first: card.querySelector("[name=first]"), last: card.querySelector("[name=last]") };
    this.encoding = card.querySelector("[name=encoding]");
    this.box = card.querySelector(".strip");
    const [up, down] = fps.split("/").map(Number);
    this.rate = up / (down || 1);
    this.at = this.first;
    this.playing = false;
    this.listen();
    this.fill();
  }

  /** First and last frame that are chosen; what is typed and is none counts as the plate's own. */
  get chosen() {
    const typed = ["first", "last"].map((end) => Number(this.inputs[end].value) || this[end]);
    return typed.map((frame) => Math.min(Math.max(frame, this.first), this.last));
  }

  url(frame, wide) {
    return `${this.address}&frame=${frame}&wide=${wide}&encoding=${encodeURIComponent(this.encoding.value)}`;
  }

  fill() {
    this.pictures.clear();
    const thumbs = Array.from({ length: THUMBS }, (_, k) => {
      const picture = document.createElement("img");
      picture.alt = "";
      picture.draggable = false;
      picture.src = this.url(frameUnder(k / (THUMBS - 1), this.first, this.last), 160);
      return picture;
    });
    this.card.querySelector(".thumbs").replaceChildren(...thumbs);
    this.show(this.at);
    this.draw();
  }

  picture(frame) {
    if (!this.pictures.has(frame)) {
      if (this.pictures.size > KEPT) this.pictures.delete(this.pictures.keys().next().value);
      const picture = new Image();
      picture.src = this.url(frame, 640);
      this.pictures.set(frame, picture);
    }
    return this.pictures.get(frame);
  }

  async show(frame) {
    this.at = frame;
    this.draw();
    const picture = this.picture(frame);
    await picture.decode().catch(() => {});
    if (this.at === frame) this.card.querySelector(".peek img").src = picture.src;
  }

  draw() {
    const share = (frame) => `${(100 * (frame - this.first)) / Math.max(1, this.last - this.first)}%`;
    const [first, last] = this.chosen;
    this.card.querySelector("[data-end=first]").style.left = share(first);
    this.card.querySelector("[data-end=last]").style.left = share(last);
    this.card.querySelector(".out.left").style.width = share(first);
    this.card.querySelector(".out.right").style.left = share(last);
    this.card.querySelector(".head").style.left = share(this.at);
    this.card.querySelector(".at").textContent = this.at;
    this.card.querySelector(".chosen").textContent = `${first}-${last} (${Math.max(0, last - first + 1)})`;
  }

  choose(end, frame) {
    const [first, last] = this.chosen;
    this.inputs[end].value = end === "first" ? Math.min(frame, last - 1) : Math.max(frame, first + 1);
    this.show(Number(this.inputs[end].value));
  }

  listen() {
    let pulled = null;
    const under = (event) => {
      const box = this.box.getBoundingClientRect();
      return frameUnder((event.clientX - box.left) / box.width, this.first, this.last);
    };
    this.box.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      pulled = event.target.dataset.end ?? "head";
      event.target.focus?.();
      this.box.setPointerCapture(event.pointerId);
      this.stop();
      if (pulled === "head") this.show(under(event));
    });
    this.box.addEventListener("pointermove", (event) => {
      if (!pulled) return;
      if (pulled === "head") this.show(under(event));
      else this.choose(pulled, under(event));
    });
    for (const name of ["pointerup", "pointercancel"]) {
      this.box.addEventListener(name, () => {
        pulled = null;
      });
    }
    this.box.addEventListener("keydown", (event) => {
      const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
      const { end } = event.target.dataset;
      if (!step || !end) return;
      event.preventDefault();
      this.choose(end, this.chosen[end === "first" ? 0 : 1] + step * (event.shiftKey ? 10 : 1));
    });
    for (const end of ["first", "last"]) this.inputs[end].addEventListener("input", () => this.draw());
    this.encoding.addEventListener("change", () => this.fill());
    this.card.querySelector("[data-play]").addEventListener("click", () => (this.playing ? this.stop() : this.play()));
  }

  stop() {
    this.playing = false;
    this.card.querySelector("[data-play] span").textContent = "Play";
  }

  /** Play the chosen frames round and round, as fast as they come and no faster than the plate. */
  async play() {
    this.playing = true;
    this.card.querySelector("[data-play] span").textContent = "Stop";
    let frame = this.at;
    while (this.playing) {
      const [first, last] = this.chosen;
      frame = frame >= last || frame < first ? first : frame + 1;
      const until = performance.now() + 1000 / this.rate;
      for (let ahead = 1; ahead < 6; ahead += 1) if (frame + ahead <= last) this.picture(frame + ahead);
      await this.show(frame);
      await new Promise((done) => setTimeout(done, Math.max(0, until - performance.now())));
    }
  }
}

for (const card of document.querySelectorAll(".intake")) new Strip(card);
document.body.dataset.ready = "yes";
