// The solve stage: what is asked of a solve, and what came of it.

import { Casebook } from "../casebook/bench.js";
import { drawLensReport } from "../lens/report.js";
import { find } from "../shell/dom.js";
import { drawFigures } from "./figures.js";
import { Known } from "./known.js";
import { drawLedger } from "./ledger.js";
import { Unsure } from "./unsure.js";

export class SolveStage {
  constructor(desk) {
    this.desk = desk;
    this.known = new Known(desk);
    this.unsure = new Unsure(desk);
    this.casebook = new Casebook(desk);
    this.actions = [
      { id: "solve", name: "Solve the camera", run: () => desk.start("solve", asked(desk.state.range)) },
      { id: "state-known", name: "Solve: add to what is known", run: () => this.known.add() },
      ...this.unsure.actions,
      ...this.casebook.actions,
    ];
    find("#shutter").addEventListener("change", () => {
      find("#readoutfields").hidden = find("#shutter").value !== "known";
    });
    find("#begin").addEventListener("change", () => this.showWithin());
    find("#focalknown").addEventListener("change", showFocalFields);
    find("#motion").addEventListener("change", showRadius);
    showRadius();
  }

  changed(keys) {
    this.unsure.changed(keys);
    this.casebook.changed(keys);
    if (keys.has("selection") || keys.has("range")) this.known.hint();
    if (keys.has("range")) this.showWithin();
    if (!keys.has("attempt")) return;
    const box = find("#lensreport");
    const keep = () => this.desk.stages.lens.useSolved();
    drawLensReport(box, this.desk.state.attempt?.world, Number(box.dataset.mm), keep);
  }

  /** An attempt can be refined on the chosen frames alone. */
  showWithin() {
    const { range } = this.desk.state;
    find("#withinfield").hidden = !Number(find("#begin").value) || !range;
    find("#withinframes").textContent = range ? `${range[0]}–${range[1]}` : "";
  }

  settle(server, before) {
    const { desk } = this;
    if (JSON.stringify(before?.camera) !== JSON.stringify(server.camera)) fillFocal(server.camera);
    drawVerdict(server.verdict);
    drawFigures(server);
    this.known.draw(server);
    drawLedger(server, desk.shot, {
      pin: (id) => desk.edit("pin", { attempt: id }),
      call: (values) => desk.edit("attempt", values),
      back: (id) => desk.send("back", { attempt: id }),
      refine: (id) => {
        find("#begin").value = id;
        this.showWithin();
        desk.start("solve", asked(desk.state.range));
      },
    });
    this.casebook.draw(server);
  }
}

/** Whether the camera is good, first of all. */
function drawVerdict(verdict) {
  const box = find("#verdict");
  box.hidden = !verdict;
  if (!verdict) return;
  box.textContent = verdict.words;
  box.className = `verdict ${verdict.good ? "good" : "doubt"}`;
}

/** What the fields ask of the next solve. */
function asked(range) {
  const begin = find("#begin").value;
  return {
    motion: find("#motion").value,
    distortion: find("#distortion").value,
    focal_mm: find("#focal").value,
    focal_state: find("#focalknown").value,
    focal_sigma_mm: find("#focalspread").value,
    terms: lensChoices(),
    zoom: find("#zoom").checked,
    rows: find("#shutter").value,
    readout: find("#readout").value,
    readout_sigma: find("#readoutsigma").value,
    hand_weight: find("#handweight").value,
    within: find("#within").checked && !find("#withinfield").hidden,
    begin: Number(begin) || 0,
    begin_path: begin.startsWith("path ") ? begin.slice(5) : "",
    start: Number(begin) || begin.startsWith("path ") ? "" : begin,
    frames: range ?? [],
    radius: find("#radius").value,
    folds: Number(find("#folds").value),
    share: [...document.querySelectorAll("[data-share]:checked")].map((box) => Number(box.dataset.share)),
  };
}

/** What of the lens is free, soft or fixed in the next solve. */
function lensChoices() {
  const out = {};
  for (const chosen of document.querySelectorAll("[data-term]")) {
    const name = chosen.dataset.term;
    if (!chosen.value) continue;
    out[name] = {
      state: chosen.value,
      value: find(`[data-value="${name}"]`).value,
      sigma: find(`[data-sigma="${name}"]`).value,
    };
  }
  return out;
}

/** The solve's focal length is the camera's until another is typed. */
function fillFocal(camera) {
  find("#focalknown").value = camera.focal_state;
  find("#focal").value = camera.focal_mm ?? "";
  find("#focalspread").value = camera.focal_sigma_mm || "";
  showFocalFields();
}

/** Only points of a camera that may stand still need a distance. */
function showRadius() {
  find("#radiusfield").hidden = !["auto", "nodal", "locked"].includes(find("#motion").value);
}

function showFocalFields() {
  find("#focalmmfield").hidden = find("#focalknown").value === "unknown";
  find("#focalspread").hidden = find("#focalknown").value !== "start";
}
