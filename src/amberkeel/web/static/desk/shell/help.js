// Help at the place of use: the artists' pages in a drawer, and a line on each stage's first visit.
import { find } from "./dom.js";

const KEPT = "keel-first";

/** The artists' page on the stage at hand, in a drawer over the lanes and the column. */
export class Help {
  constructor(desk) {
    this.desk = desk;
    this.box = find("#help");
    find("#helpclose").addEventListener("click", () => this.close());
    this.box.addEventListener("click", (event) => {
      const link = event.target.closest("a[href^='/help/']");
      if (!link || link.target) return;
      event.preventDefault();
      this.show(link.getAttribute("href"));
    });
  }

  toggle() {
    if (this.box.hidden) this.show(`/help/for/${this.desk.state.stage}`);
    else this.close();
  }

  async show(address) {
    const answer = await fetch(`${address.split("#")[0]}?part=1`);
    find("#helptext").innerHTML = answer.ok ? await answer.text() : "<p>Help cannot be reached.</p>";
    find("#helppage").href = answer.url.replace(/\?.*/, "");
    this.box.hidden = false;
    const at = address.split("#")[1];
    if (at) find(`#helptext [id="${CSS.escape(at)}"]`)?.scrollIntoView();
    else find("#helptext").scrollTop = 0;
  }

  close() {
    this.box.hidden = true;
  }

  /** Close the drawer where it is open; returns whether it was. */
  leave() {
    const isOpen = !this.box.hidden;
    this.close();
    return isOpen;
  }
}

const seen = () => new Set(JSON.parse(localStorage.getItem(KEPT) ?? "[]"));

/** Show the line that says what a stage is for, until it has been read. */
export function showFirstLine(stage) {
  for (const line of document.querySelectorAll("[data-first-line]")) {
    line.hidden = line.dataset.firstLine !== stage || seen().has(stage);
  }
}

export function listenToFirstLines() {
  for (const line of document.querySelectorAll("[data-first-line]")) {
    line.querySelector("[data-read]").addEventListener("click", () => {
      localStorage.setItem(KEPT, JSON.stringify([...seen(), line.dataset.firstLine]));
      line.hidden = true;
    });
  }
}
