// The handoff stage: packages for recipients, and single files.
import { toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { drawDownloads } from "./downloads.js";
import { JudgeBench } from "./judge.js";
import { PackBench } from "./packages.js";

const BENCHES = { pack: "packages for recipients", files: "single files, and cameras to judge" };

export class HandoffStage {
  constructor(desk) {
    this.desk = desk;
    this.known = "";
    this.bench = "pack";
    this.pack = new PackBench(desk);
    this.judge = new JudgeBench(desk);
    this.actions = [
      ...Object.entries(BENCHES).map(([bench, words]) => ({
        id: `handoff-${bench}`,
        name: `Handoff: ${words}`,
        run: () => this.open(bench),
      })),
      ...this.pack.actions,
      ...this.judge.actions,
    ];
  }

  open(bench) {
    this.bench = bench;
    this.desk.goStage("handoff");
    this.show();
  }

  show() {
    for (const box of document.querySelectorAll("[data-handoff]")) box.hidden = box.dataset.handoff !== this.bench;
    for (const name of Object.keys(BENCHES))
      find(`[data-act="handoff-${name}"]`).classList.toggle("on", name === this.bench);
  }

  async settle(server) {
    drawDownloads(server);
    this.show();
    const key = `${server.revision} ${server.pinned}`;
    if (key === this.known) return;
    this.known = key;
    await this.pack.fetch().catch((error) => toast(error.message, true));
  }
}
