// The course of stages, and what of the page belongs to the stage at hand.
import { find } from "./dom.js";

/** Show the tools of a stage, and the list of tracks where it helps. */
export function showStage(stage) {
  for (const panel of document.querySelectorAll("[data-panel]")) panel.hidden = panel.dataset.panel !== stage;
  for (const stop of document.querySelectorAll(".stop")) stop.classList.toggle("here", stop.dataset.key === stage);
  find("#desk").classList.toggle("masking", stage === "masks");
  find("#desk").classList.toggle("lensing", ["lens", "world"].includes(stage));
  find("#desk").classList.toggle("solving", stage === "solve");
  for (const group of document.querySelectorAll("[data-tools]"))
    group.hidden = (group.dataset.tools === "lens") !== (stage === "lens");
  find("#listbox").hidden = !["tracks", "solve", "world"].includes(stage);
}

/** The state of each stage, and what undo and redo would do. */
export function drawCourse(server) {
  for (const stage of server.stages) {
    const stop = find(`.stop[data-key="${stage.key}"]`);
    stop.dataset.state = stage.state;
    stop.querySelector(".fact").textContent = stage.fact;
    stop.querySelector(".words").textContent = stage.words;
  }
  find("#undo").disabled = !server.undo;
  find("#redo").disabled = !server.redo;
  find("#undo").title = server.undo ? `Undo: ${server.undo} (Ctrl Z)` : "Nothing to undo";
  find("#redo").title = server.redo ? `Redo: ${server.redo} (Ctrl Y)` : "Nothing to redo";
}
