// How the desk's space is shared out: dividers that are dragged and remembered, a list or casebook at full height, and
// the picture alone.
import { find } from "./dom.js";

const KEPT = "keel-room";

/** Each divider: the side of the page it is measured from, and its limits in pixels and as a share of the page. */
const DIVIDERS = {
  side: { from: "right", least: 260, share: 0.5 },
  lanes: { from: "bottom", least: 96, share: 0.6 },
  case: { from: "lanes", least: 64, share: 0.7 },
};

const kept = () => JSON.parse(localStorage.getItem(KEPT) ?? "{}");
const keep = (patch) => localStorage.setItem(KEPT, JSON.stringify({ ...kept(), ...patch }));

/** The size that a divider would have with the pointer at a place of the page. */
export function sizeAt(name, x, y, page) {
  const { from, least, share } = DIVIDERS[name];
  const far = from === "right" ? page.width : page.height;
  const wanted = from === "right" ? page.width - x : (from === "bottom" ? page.height : page.lanes) - y;
  return Math.round(Math.min(Math.max(wanted, least), share * far));
}

export class Room {
  constructor(desk) {
    this.desk = find("#desk");
    this.redraw = () => desk.lanes.draw();
    for (const [name, size] of Object.entries(kept())) if (DIVIDERS[name]) this.set(name, size);
    for (const divider of document.querySelectorAll(".divider")) this.listen(divider);
    for (const button of document.querySelectorAll("button[data-tall]")) {
      button.addEventListener("click", (event) => {
        event.preventDefault();
        this.tall(button.dataset.tall);
      });
    }
    document.addEventListener("fullscreenchange", () => {
      if (!document.fullscreenElement) this.desk.classList.remove("alone");
    });
  }

  get page() {
    return { width: innerWidth, height: innerHeight, lanes: find(".lanes").getBoundingClientRect().top };
  }

  set(name, size) {
    this.desk.style.setProperty(`--${name}`, `${size}px`);
  }

  /** Give a divider's size back to the page's own layout. */
  reset(name) {
    this.desk.style.removeProperty(`--${name}`);
    keep({ [name]: undefined });
  }

  listen(divider) {
    const { name } = divider.dataset;
    const pull = (event) => {
      const size = sizeAt(name, event.clientX, event.clientY, this.page);
      this.set(name, size);
      keep({ [name]: size });
    };
    divider.addEventListener("pointerdown", (event) => {
      event.preventDefault();
      divider.setPointerCapture(event.pointerId);
      divider.classList.add("held");
      divider.onpointermove = pull;
    });
    const leave = () => {
      divider.onpointermove = null;
      divider.classList.remove("held");
    };
    divider.addEventListener("pointerup", leave);
    divider.addEventListener("pointercancel", leave);
    divider.addEventListener("dblclick", () => this.reset(name));
    divider.addEventListener("keydown", (event) => {
      const step = { ArrowUp: 16, ArrowLeft: 16, ArrowDown: -16, ArrowRight: -16 }[event.key];
      if (!step) return;
      event.preventDefault();
      event.stopPropagation();
      const box = divider.getBoundingClientRect();
      const at = [box.left + box.width / 2 - step, box.top + box.height / 2 - step];
      const size = sizeAt(name, ...at, this.page);
      this.set(name, size);
      keep({ [name]: size });
    });
  }

  /** Give the whole column to the list or the casebook, or share it again. */
  tall(which) {
    const side = find(".side");
    const on = side.dataset.tall !== which;
    side.dataset.tall = on ? which : "";
    for (const button of document.querySelectorAll("button[data-tall]")) {
      const own = on && button.dataset.tall === which;
      button.setAttribute("aria-pressed", own);
      button.title = own ? "Share the column again" : button.dataset.words;
    }
    if (on && which === "case") find(".case").open = true;
  }

  /** The picture alone on the whole screen, or the desk again. */
  async alone() {
    const on = this.desk.classList.toggle("alone");
    if (on) await document.documentElement.requestFullscreen?.().catch(() => {});
    else if (document.fullscreenElement) await document.exitFullscreen().catch(() => {});
  }

  /** Give the desk back where the picture stands alone; returns whether that was so. */
  leave() {
    const isAlone = this.desk.classList.contains("alone");
    if (isAlone) this.alone();
    return isAlone;
  }
}

export function sharing(room) {
  return [
    { id: "alone", name: "The picture alone, or the desk again", keys: "W", run: () => room.alone() },
    { id: "tall-list", name: "List of tracks: full height, or shared", keys: "Shift L", run: () => room.tall("list") },
    { id: "tall-case", name: "Casebook: full height, or shared", keys: "Shift C", run: () => room.tall("case") },
    {
      id: "room-reset",
      name: "Put the dividers back",
      run: () => {
        for (const name of Object.keys(DIVIDERS)) room.reset(name);
      },
    },
  ];
}
