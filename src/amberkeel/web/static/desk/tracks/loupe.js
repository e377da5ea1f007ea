// The loupe: the spot under the pointer magnified, beside the reference that it is compared with.
import { post } from "../shell/api.js";
import { find } from "../shell/dom.js";

/** A pointer that moves on within this time is not asked about, ms. */
const REST_MS = 45;

/** Size of the loupe's picture on the screen, px, and the corner of the plate that it covers. */
const SHOWN_PX = 148;
const COVERS = [360, 260];

export class Loupe {
  constructor(desk) {
    this.desk = desk;
    this.asked = 0;
    this.timer = 0;
  }

  /** Show a position on the plate; `grip` are settings being dragged. Answers that come late are let go. */
  async show(position, id, grip = {}) {
    const { desk } = this;
    const { state } = desk;
    if (!position || state.bench !== "place" || state.stage !== "tracks") {
      find("#loupe").hidden = true;
      return;
    }
    const mine = (this.asked += 1);
    clearTimeout(this.timer);
    await new Promise((done) => {
      this.timer = setTimeout(done, REST_MS);
    });
    const settings = { ...(state.tracks?.settings[id] ?? {}), ...grip };
    const body = {
      frame: state.frame,
      x: position[0],
      y: position[1],
      track: id,
      images: find("#images").value,
      settings,
    };
    const seen = await post(desk.at("loupe"), body).catch(() => null);
    if (!seen || mine !== this.asked) return;
    const [px, py] = desk.viewport.toScreen(...position);
    find("#loupe").hidden = false;
    find("#loupe").classList.toggle("aside", px < COVERS[0] && py < COVERS[1]);
    fill(seen, state.frame);
  }
}

function fill(seen, frame) {
  const picture = (data) => `data:image/png;base64,${data}`;
  find("#loupehere").src = picture(seen.here);
  find("#loupename").textContent = `frame ${frame}, ×${Math.round(SHOWN_PX / (2 * seen.half + 1))}`;
  find("#loupethen").hidden = !seen.reference;
  if (seen.reference) find("#loupereference").src = picture(seen.reference);
  find("#loupefrom").textContent = `key at ${seen.frame}`;
  const sigma = seen.sigma == null ? "" : `  σ ${seen.sigma.toFixed(2)} px`;
  find("#loupescore").textContent = seen.score == null ? (seen.note ?? "") : `match ${seen.score.toFixed(2)}${sigma}`;
}
