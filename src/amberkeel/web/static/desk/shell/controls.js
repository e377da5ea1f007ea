// The bar above the plate, the transport and the course, as the state has them.

import { layer } from "./actions.js";
import { showStage } from "./course.js";
import { find, write } from "./dom.js";

/** Draw what changed of the controls. `icons` is where the icons lie. */
export function drawControls(state, changed, icons) {
  if (changed.has("stage")) showStage(state.stage);
  if (changed.has("stage") || changed.has("attempt")) {
    find('[data-layer="card"]').hidden = !state.attempt?.card;
    find('[data-layer="slip"]').hidden = !state.attempt;
  }
  if (changed.has("solids")) find('[data-layer="scene"]').hidden = !state.solids?.things.size;
  find("#lanekind").hidden = !["solve", "world"].includes(state.stage);
  find("#sigmas").classList.toggle("on", state.sigmas);
  if (changed.has("playing")) find("#play use").setAttribute("href", `${icons}#${state.playing ? "pause" : "play"}`);
  const count = state.tracks ? `${state.tracks.ids.length} tracks` : "";
  write("#rangelabel", state.range ? `frames ${state.range[0]}-${state.range[1]}` : "");
  write("#factor", `×${state.exaggeration}`);
  find("#lengthened").hidden = !state.layers.sticks;
  write("#selected", state.selection.size ? `${state.selection.size} selected` : count);
  for (const tool of ["pick", "box", "lasso"])
    find(`[data-act="tool-${tool}"]`).classList.toggle("on", state.tool === tool);
  for (const view of ["plate", "both", "space", "charts"])
    find(`[data-act="view-${view}"]`).classList.toggle("on", state.view === view);
  for (const button of document.querySelectorAll("[data-layer]")) {
    button.classList.toggle("on", state.layers[button.dataset.layer]);
  }
}

/** Wire up what is pressed, typed and held. */
export function listenToControls(desk) {
  const { store } = desk;
  for (const button of document.querySelectorAll("[data-layer]")) {
    button.addEventListener("click", () => layer(store, button.dataset.layer));
  }
  for (const stop of document.querySelectorAll(".stop")) {
    stop.addEventListener("click", (e) => {
      e.preventDefault();
      desk.goStage(stop.dataset.key);
    });
  }
  addEventListener("popstate", () => store.set({ stage: location.pathname.split("/").pop() }));
  find("#exaggerate").addEventListener("input", (e) =>
    store.set({ exaggeration: Math.round(10 ** (e.target.value / 40)) }),
  );
  // Enter takes what was typed and gives the keys back to the picture.
  addEventListener("keydown", (e) => {
    if (e.key === "Enter" && e.target.matches("#desk input:not(form input)")) e.target.blur();
  });
  const holds = (e) => e.key.toLowerCase() === "h";
  addEventListener("keydown", (e) => {
    if (holds(e) && !/^(INPUT|SELECT)$/.test(e.target.tagName) && !e.ctrlKey) store.set({ held: true });
  });
  addEventListener("keyup", (e) => {
    if (holds(e)) store.set({ held: false });
  });
}
