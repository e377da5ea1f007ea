// Actions that belong to no stage: playing, selecting, undoing, what is shown.

import { frameSelection, lookFrom } from "../viewport/space_views.js";
import { post, toast } from "./api.js";
import { find } from "./dom.js";

const LAYERS = {
  tracks: "tracks",
  tails: "tails",
  sticks: "residual sticks",
  points: "reprojected points",
  card: "checker card",
  masks: "masks",
  coverage: "coverage",
  slip: "predicted slip",
  scene: "what stands in the scene",
};

/** Show what is selected alone, or all but it; with nothing selected, all. */
function showOnly(store, alone) {
  const { selection, only, tracks } = store.state;
  if (!selection.size) return store.set({ only: null });
  const before = only ?? new Set(tracks?.ids ?? []);
  const next = alone ? new Set(selection) : new Set([...before].filter((id) => !selection.has(id)));
  return store.set({ only: next, ...(alone ? {} : { selection: new Set() }) });
}

/** Show a layer, or hide it. */
export function layer(store, name) {
  store.set({ layers: { ...store.state.layers, [name]: !store.state.layers[name] } });
}

export function playing(desk, playback) {
  const { store, state } = desk;
  return [
    { id: "play", name: "Play or stop", keys: "Space", run: () => playback.toggle() },
    { id: "back", name: "One frame back", keys: "ArrowLeft", run: () => playback.step(-1) },
    { id: "on", name: "One frame on", keys: "ArrowRight", run: () => playback.step(1) },
    { id: "back10", name: "Ten frames back", keys: "Shift ArrowLeft", run: () => playback.step(-10) },
    { id: "on10", name: "Ten frames on", keys: "Shift ArrowRight", run: () => playback.step(10) },
    { id: "start", name: "To the first frame", keys: "Home", run: () => store.set({ frame: state.first }) },
    { id: "end", name: "To the last frame", keys: "End", run: () => store.set({ frame: state.last }) },
    { id: "norange", name: "Forget the chosen frames", run: () => store.set({ range: null }) },
  ];
}

export function editing(desk, { leave, remove }) {
  const { store, state } = desk;
  const move = (way, done) =>
    desk.act(async () => {
      const server = await post(desk.at(way), { revision: desk.revision });
      await desk.take(server);
      toast(`${done}: ${server.said}`);
    });
  const states = (to) => desk.edit("states", { states: { [to]: desk.selected } });
  return [
    { id: "undo", name: "Undo", keys: "Ctrl Z", run: () => move("undo", "Undone") },
    { id: "redo", name: "Redo", keys: "Ctrl Y", run: () => move("redo", "Done again") },
    { id: "tool-pick", name: "Pick single tracks", keys: "1", run: () => store.set({ tool: "pick" }) },
    { id: "tool-box", name: "Select with a box", keys: "2", run: () => store.set({ tool: "box" }) },
    { id: "tool-lasso", name: "Select with a lasso", keys: "3", run: () => store.set({ tool: "lasso" }) },
    { id: "none", name: "Select nothing", keys: "Escape", run: leave },
    {
      id: "all",
      name: "Select all tracks",
      keys: "Ctrl A",
      run: () => store.set({ selection: new Set(state.tracks?.ids ?? []) }),
    },
    { id: "exclude", name: "Exclude the selected tracks", keys: "X", run: () => states("excluded") },
    { id: "restore", name: "Restore the selected tracks", keys: "R", run: () => states("active") },
    { id: "withhold", name: "Withhold the selected tracks as check tracks", keys: "C", run: () => states("check") },
    { id: "delete", name: "Delete the selected tracks, point or mask", keys: "Delete", also: "Backspace", run: remove },
  ];
}

export function looking(desk, space) {
  const { store } = desk;
  return [
    { id: "view-plate", name: "View: plate", keys: "4", run: () => space.show("plate") },
    { id: "view-both", name: "View: plate and 3D", keys: "5", run: () => space.show("both") },
    { id: "view-space", name: "View: 3D", keys: "6", run: () => space.show("space") },
    { id: "view-charts", name: "View: charts of the residuals", keys: "8", run: () => space.show("charts") },
    { id: "through", name: "3D: look through the camera, or orbit", keys: "7", run: () => space.through() },
    { id: "space-home", name: "3D: see the whole scene", run: () => space.shown().home() },
    {
      id: "space-frame",
      name: "3D: bring the selection into the middle",
      keys: "A",
      run: () => frameSelection(space.shown()),
    },
    { id: "space-front", name: "3D: from the front", keys: "Shift F", run: () => lookFrom(space.shown(), "front") },
    { id: "space-side", name: "3D: from the side", keys: "Shift D", run: () => lookFrom(space.shown(), "side") },
    { id: "space-above", name: "3D: from above", keys: "Shift A", run: () => lookFrom(space.shown(), "above") },
    {
      id: "space-flat",
      name: "3D: with perspective or without",
      keys: "Shift W",
      run: () => {
        const scene = space.shown();
        scene.setFlat(!scene.eye.isOrthographicCamera);
      },
    },
    { id: "only", name: "Show the selected points alone", keys: "Shift I", run: () => showOnly(store, true) },
    { id: "without", name: "Hide the selected points", run: () => showOnly(store, false) },
    { id: "everything", name: "Show all points again", run: () => store.set({ only: null }) },
    { id: "fit", name: "Fit the plate to the view", keys: "0", run: () => desk.viewport.fit() },
    ...Object.entries(LAYERS).map(([name, words]) => ({
      id: `layer-${name}`,
      name: `Show or hide: ${words}`,
      run: () => layer(store, name),
    })),
  ];
}

export function going(desk, palette) {
  const stops = [...document.querySelectorAll(".stop")];
  return [
    ...stops.map((s) => ({
      id: `stage-${s.dataset.key}`,
      name: `Go to: ${s.querySelector("b").textContent}`,
      run: () => desk.goStage(s.dataset.key),
    })),
    { id: "palette", name: "Find an action", keys: "Ctrl K", also: "/", run: () => palette().open() },
    { id: "keys", name: "Show the keyboard", keys: "?", run: () => find("#keys").showModal() },
    {
      id: "board",
      name: "Go to the board",
      run: () => {
        location.href = "/";
      },
    },
  ];
}
