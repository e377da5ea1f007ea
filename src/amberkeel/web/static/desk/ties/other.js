// The other shot's plate beside this one: spots to tie to, picked with a click; wheel zooms, right drag moves.
import { get, toast } from "../shell/api.js";
import { INK } from "../shell/colour.js";
import { find, oneAtATime } from "../shell/dom.js";

const PICK_PX = 14;

/** Spots on a frame from which they are drawn small. */
const CROWDED = 60;

export class OtherPlate {
  constructor(desk) {
    this.desk = desk;
    this.state = { frame: null, picked: null, known: null, shot: null };
    this.picked = () => {};
    this.zoom = 1;
    this.pan = [0, 0];
    this.canvas = find("#other");
    this.picture = null;
    new ResizeObserver(() => this.draw()).observe(this.canvas);
    find("#othershot").addEventListener("change", (e) => this.beside(Number(e.target.value)));
    find("#otherframe").addEventListener("input", (e) => this.go(Number(e.target.value)));
    this.canvas.addEventListener("wheel", (e) => this.wheel(e), { passive: false });
    this.canvas.addEventListener("pointerdown", (e) => this.down(e));
    this.canvas.addEventListener("pointermove", (e) => this.move(e));
    this.canvas.addEventListener("pointerup", (e) => this.up(e));
    this.canvas.addEventListener("contextmenu", (e) => e.preventDefault());
    this.load = oneAtATime(() => this.fetch());
  }

  get isShown() {
    return !find("#otherpane").hidden;
  }

  toggle() {
    return this.isShown ? this.hide() : this.show();
  }

  show() {
    this.desk.space.show("plate");
    find("#otherpane").hidden = false;
    const panes = document.querySelector(".panes");
    panes.classList.add("two");
    panes.classList.toggle("stacked", this.higher(panes));
    this.load();
    this.picked();
  }

  hide() {
    find("#otherpane").hidden = true;
    document.querySelector(".panes").classList.remove("two", "stacked");
    this.picked();
  }

  /** Whether two plates are larger one above the other than side by side. */
  higher({ clientWidth: w, clientHeight: h }) {
    const { width, height } = this.desk.state;
    const size = (a, b) => Math.min(a / width, b / height);
    return size(w, h / 2) > size(w / 2, h);
  }

  /** Go to a frame of the other shot, and pick a spot on it. */
  go(frame, picked) {
    this.state.frame = frame;
    // What is proposed lies in the reference.
    if (picked) Object.assign(this.state, { picked, shot: null });
    if (!this.isShown) return this.show();
    this.picked();
    return this.load();
  }

  /** Show another shot of the set. */
  beside(shot) {
    Object.assign(this.state, { shot, frame: null, picked: null });
    this.picked();
    return this.load();
  }

  /** The shots of the set that may stand here, the reference first. */
  get others() {
    const { others } = this.desk.state.ties.known ?? { others: [] };
    return [...others].sort((a, b) => Number(b.reference) - Number(a.reference));
  }

  async fetch() {
    const { frame: wanted, shot } = this.state;
    const own = this.desk.state.ties.known?.set?.own;
    const query = new URLSearchParams();
    if (wanted !== null) query.set("frame", wanted);
    if (shot ?? own) query.set("shot", shot ?? this.others[0]?.id);
    try {
      const known = await get(this.desk.at(`ties/other.json?${query}`));
      const answer = await fetch(`/frames/${known.picture}.jpg`);
      this.picture = await createImageBitmap(await answer.blob());
      Object.assign(this.state, { known, frame: this.state.frame ?? known.frame });
      const slider = find("#otherframe");
      Object.assign(slider, { min: known.first, max: known.last, value: known.frame });
      find("#othername").textContent = known.name;
      find("#otherat").textContent = known.frame;
      this.choose(known);
      this.draw();
    } catch (error) {
      toast(error.message, true);
      this.hide();
    }
  }

  choose(known) {
    const { others } = this;
    const choice = find("#othershot");
    choice.hidden = others.length < 2;
    find("#othername").hidden = others.length > 1;
    const options = others.map((one) => new Option(one.name, one.id, false, one.id === known.shot));
    choice.replaceChildren(...options);
    find("#othernote").textContent = known.reference
      ? "Click a spot to tie to. Filled rings are points of the set."
      : "Diamonds are points of the set by this shot's camera; what is selected here is marked there.";
  }

  get scale() {
    const { width, height } = this.state.known;
    return Math.min(this.canvas.clientWidth / width, this.canvas.clientHeight / height) * 0.985 * this.zoom;
  }

  toScreen(x, y) {
    const { width, height } = this.state.known;
    const { clientWidth: w, clientHeight: h } = this.canvas;
    return [w / 2 + this.pan[0] + (x - width / 2) * this.scale, h / 2 + this.pan[1] + (y - height / 2) * this.scale];
  }

  wheel(event) {
    event.preventDefault();
    const next = Math.min(Math.max(this.zoom * Math.exp(-event.deltaY * 0.0016), 0.4), 40);
    const [x, y] = [event.offsetX - this.canvas.clientWidth / 2, event.offsetY - this.canvas.clientHeight / 2];
    const share = next / this.zoom;
    this.pan = [x - (x - this.pan[0]) * share, y - (y - this.pan[1]) * share];
    this.zoom = next;
    this.draw();
  }

  down(event) {
    this.canvas.setPointerCapture(event.pointerId);
    if (event.button !== 0) this.drag = [event.offsetX, event.offsetY];
    else this.pick([event.offsetX, event.offsetY]);
  }

  move(event) {
    if (!this.drag) return;
    this.pan = [this.pan[0] + event.offsetX - this.drag[0], this.pan[1] + event.offsetY - this.drag[1]];
    this.drag = [event.offsetX, event.offsetY];
    this.draw();
  }

  up() {
    this.drag = null;
  }

  pick([x, y]) {
    let best = PICK_PX;
    let found = null;
    for (const spot of this.state.known?.reference ? this.state.known.spots : []) {
      const [px, py] = this.toScreen(spot.x, spot.y);
      const d = Math.hypot(px - x, py - y);
      if (d < best) [best, found] = [d, spot];
    }
    this.state.picked = found;
    this.draw();
    this.picked();
  }

  draw() {
    const c = this.canvas;
    const ratio = devicePixelRatio || 1;
    c.width = Math.round(c.clientWidth * ratio);
    c.height = Math.round(c.clientHeight * ratio);
    const { known, picked } = this.state;
    if (!known || !this.picture || !c.width) return;
    const g = c.getContext("2d");
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    const [x, y] = this.toScreen(0, 0);
    g.drawImage(this.picture, x, y, known.width * this.scale, known.height * this.scale);
    const tied = new Set((this.desk.state.ties.known?.ties ?? []).map((one) => one.point));
    const size = known.spots.length > CROWDED ? 2.2 : 4;
    for (const spot of known.spots) this.drawSpot(g, spot, tied, size);
    this.drawPoints(g, known.points);
    if (picked) this.drawPicked(g, picked);
  }

  drawSpot(g, spot, tied, size) {
    const [x, y] = this.toScreen(spot.x, spot.y);
    g.beginPath();
    g.arc(x, y, tied.has(spot.name) ? 5 : size, 0, 2 * Math.PI);
    g.strokeStyle = spot.point ? INK.verdigris : INK.sail;
    g.lineWidth = 1.2;
    if (spot.point) {
      g.fillStyle = tied.has(spot.name) ? INK.verdigris : "#4fb3a560";
      g.fill();
    }
    g.stroke();
  }

  /** The set's points by that shot's camera; those whose tracks are selected in this plate bear their names. */
  drawPoints(g, points) {
    const { state } = this.desk;
    const own = new Map((state.ties.known?.ties ?? []).map((one) => [one.track, one.point]));
    const { tracks } = state;
    const names = new Set(
      [...state.selection].map((id) => own.get(id) ?? tracks?.names[tracks.row.get(id)]).filter(Boolean),
    );
    for (const [name, px, py] of points) {
      const [x, y] = this.toScreen(px, py);
      const marked = names.has(name);
      const size = marked ? 8 : points.length > CROWDED ? 2.5 : 5;
      g.strokeStyle = marked ? INK.amber : INK.verdigris;
      g.lineWidth = marked ? 2 : 1;
      g.beginPath();
      g.moveTo(x, y - size);
      for (const [dx, dy] of [
        [size, 0],
        [0, size],
        [-size, 0],
        [0, -size],
      ])
        g.lineTo(x + dx, y + dy);
      g.stroke();
      if (marked) this.label(g, x, y, name);
    }
  }

  drawPicked(g, picked) {
    const now = this.state.known.spots.find((one) => one.name === picked.name) ?? picked;
    const [x, y] = this.toScreen(now.x, now.y);
    g.strokeStyle = INK.amber;
    g.lineWidth = 2;
    g.strokeRect(x - 9, y - 9, 18, 18);
    this.label(g, x, y, picked.name);
  }

  label(g, x, y, name) {
    g.font = "600 12px Barlow";
    const wide = g.measureText(name).width;
    g.fillStyle = "#10161cd0";
    g.fillRect(x + 12, y - 9, wide + 10, 18);
    g.fillStyle = INK.amber;
    g.fillText(name, x + 17, y + 4);
  }
}
