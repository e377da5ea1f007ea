// The world stage: ground, origin and scale from the selected tracks.
import { find } from "../shell/dom.js";
import { drawDatum } from "./datum.js";

export class WorldStage {
  constructor(desk) {
    this.desk = desk;
    const scale = () => ({ distance: find("#distance").value, unit: find("#unit").value });
    this.actions = [
      { id: "datum-ground", name: "World: ground from the selected tracks", run: () => this.set("ground") },
      { id: "datum-origin", name: "World: origin from the selected track", run: () => this.set("origin") },
      { id: "datum-scale", name: "World: scale from two selected tracks", run: () => this.set("scale", scale()) },
      { id: "datum-clear", name: "World: clear the datum", run: () => this.set("clear") },
    ];
  }

  set(what, more = {}) {
    return this.desk.send("datum", { what, tracks: this.desk.selected, ...more });
  }

  settle(server) {
    drawDatum(server, this.desk.state.attempt);
  }
}
