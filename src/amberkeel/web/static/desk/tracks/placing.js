// Placing tracks and outlining surfaces on the plate with the pointer.
import { INK } from "../shell/colour.js";
import { cross } from "../viewport/cross.js";

const GRAB = 9;
const far = (a, b) => Math.hypot(a[0] - b[0], a[1] - b[1]);

export class Placer {
  /** `send` has place(x, y), key(track, x, y), settings(track, values), surface(outline), loupe(position or null). */
  constructor(store, viewport, send) {
    Object.assign(this, { store, viewport, send, grip: null, draft: null, at: null });
  }

  get bench() {
    return this.store.state.stage === "tracks" ? this.store.state.bench : null;
  }

  /** The one selected track placed by hand, with its settings and its position on this frame, if any. */
  get chosen() {
    const { tracks, selection, frame } = this.store.state;
    if (selection.size !== 1 || !tracks) return null;
    const [id] = selection;
    const settings = tracks.settings[id];
    if (!settings) return null;
    const t = tracks.row.get(id);
    let sample = -1;
    for (const s of tracks.samples[frame - tracks.origin] ?? []) if (tracks.track[s] === t) sample = s;
    return {
      id,
      t,
      settings: this.grip?.settings ?? settings,
      position: sample < 0 ? null : (this.grip?.position ?? [tracks.x[sample], tracks.y[sample]]),
      locked: tracks.locked.includes(id),
    };
  }

  down(event, at) {
    const here = this.viewport.toPlate(...at);
    if (this.bench === "surface") return this.corner(here, at);
    if (this.bench !== "place" || event.ctrlKey || event.metaKey) return false;
    const { chosen } = this;
    if (event.shiftKey && chosen) return this.hold({ kind: "key", id: chosen.id, position: here });
    const grip = chosen?.position && !chosen.locked && this.gripAt(chosen, at);
    if (grip) return this.hold(grip);
    // Of the tracks nearby only those placed by hand are in the way; any other is picked with Ctrl.
    const { tracks } = this.store.state;
    if (this.viewport.nearest(at, (id) => tracks.settings[id]).length) return false;
    return this.hold({ kind: "new", position: here });
  }

  hold(grip) {
    this.grip = grip;
    this.show();
    this.viewport.redraw();
    return true;
  }

  /** The part of the chosen track under the pointer: a corner of its pattern or search area, its pattern, or itself. */
  gripAt({ id, settings, position }, at) {
    const [x, y] = [position[0] + settings.offset[0], position[1] + settings.offset[1]];
    const corner = ([w, h]) => this.viewport.toScreen(x + w, y + h);
    if (far(corner(settings.pattern), at) < GRAB) return { kind: "pattern", id, settings: { ...settings }, position };
    if (far(corner(settings.search), at) < GRAB) return { kind: "search", id, settings: { ...settings }, position };
    if (document.querySelector("#offsetting").checked && far(this.viewport.toScreen(x, y), at) < GRAB)
      return { kind: "offset", id, settings: { ...settings }, position };
    if (far(this.viewport.toScreen(...position), at) < GRAB) return { kind: "key", id, position: [...position] };
    return null;
  }

  move(event, at) {
    this.at = at;
    if (this.draft) this.viewport.redraw();
    const { grip } = this;
    if (!grip) return;
    const here = this.viewport.toPlate(...at);
    if (grip.kind === "new" || grip.kind === "key") grip.position = here;
    else {
      const s = grip.settings;
      const away = [here[0] - grip.position[0], here[1] - grip.position[1]];
      if (grip.kind === "offset") s.offset = away.map((v) => Math.round(v * 10) / 10);
      else
        s[grip.kind] = away.map((v, k) =>
          Math.min(Math.max(Math.round(Math.abs(v - s.offset[k])), 3), grip.kind === "pattern" ? 200 : 400),
        );
    }
    this.show();
    this.viewport.redraw();
  }

  up() {
    const { grip } = this;
    this.grip = null;
    if (!grip) return;
    if (grip.kind === "new") this.send.place(...grip.position);
    else if (grip.kind === "key") this.send.key(grip.id, ...grip.position);
    else this.send.settings(grip.id, grip.settings);
    this.viewport.redraw();
  }

  show() {
    this.send.loupe(this.grip?.position ?? this.chosen?.position ?? null, this.grip?.id ?? this.chosen?.id ?? null);
  }

  corner(here, at) {
    const draft = this.draft ?? [];
    if (draft.length > 2 && far(this.viewport.toScreen(...draft[0]), at) < GRAB) {
      this.finish();
      return true;
    }
    this.draft = [...draft, here];
    this.viewport.redraw();
    return true;
  }

  finish() {
    if (!this.draft) return;
    const outline = this.draft;
    this.draft = null;
    this.viewport.redraw();
    this.send.surface(outline);
  }

  cancel() {
    const was = Boolean(this.draft || this.grip);
    this.draft = this.grip = null;
    if (was) this.viewport.redraw();
    return was;
  }

  draw(c, state, toScreen) {
    if (state.stage !== "tracks") return;
    if (state.bench === "place") this.drawChosen(c, toScreen);
    if (this.draft) this.drawDraft(c, toScreen);
  }

  drawChosen(c, toScreen) {
    const { chosen, grip } = this;
    if (grip?.kind === "new" || grip?.kind === "key") cross(c, toScreen(...grip.position), 2, 7);
    if (!chosen?.position) return;
    const {
      settings,
      position: [x, y],
    } = chosen;
    const [mx, my] = [x + settings.offset[0], y + settings.offset[1]];
    const box = ([w, h], colour, dash) => {
      const [ax, ay] = toScreen(mx - w, my - h);
      const [bx, by] = toScreen(mx + w, my + h);
      c.setLineDash(dash);
      for (const [stroke, width] of [
        ["#0008", 3.5],
        [colour, 1.5],
      ]) {
        c.strokeStyle = stroke;
        c.lineWidth = width;
        c.strokeRect(ax, ay, bx - ax, by - ay);
      }
      c.setLineDash([]);
      c.fillStyle = colour;
      c.fillRect(bx - 3.5, by - 3.5, 7, 7);
    };
    box(settings.search, INK.sail, [5, 4]);
    box(settings.pattern, INK.amber, []);
    if (settings.offset[0] || settings.offset[1]) {
      c.beginPath();
      c.moveTo(...toScreen(x, y));
      c.lineTo(...toScreen(mx, my));
      c.stroke();
    }
    cross(c, toScreen(x, y), 2, 7);
  }

  drawDraft(c, toScreen) {
    c.strokeStyle = INK.verdigris;
    c.fillStyle = "#4fb3a526";
    c.lineWidth = 1.5;
    c.beginPath();
    for (const p of this.draft) c.lineTo(...toScreen(...p));
    if (this.at) c.lineTo(...this.at);
    c.closePath();
    c.fill();
    c.stroke();
    c.fillStyle = INK.verdigris;
    for (const p of this.draft) {
      const [x, y] = toScreen(...p);
      c.fillRect(x - 3, y - 3, 6, 6);
    }
  }
}
