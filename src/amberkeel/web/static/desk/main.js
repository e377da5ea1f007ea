// The shot desk: state, actions, and what is redrawn when.
import { get, post, toast } from "./api.js";
import { Frames } from "./frames.js";
import { Lanes } from "./lanes.js";
import { TrackList } from "./list.js";
import { followJobs } from "./jobs.js";
import { setUpLens } from "./lensdesk.js";
import { setUpMasks } from "./maskdesk.js";
import { Palette } from "./palette.js";
import { Playback } from "./playback.js";
import { Scene } from "./scene.js";
import { createStore } from "./store.js";
import { drawLensReport } from "./lensreport.js";
import { drawCourse, drawDatum, drawFigures, drawFindings, drawLedger, showStage } from "./panels.js";
import { setUpTracks } from "./trackdesk.js";
import { indexAttempt, indexTracks } from "./tracks.js";
import { Viewport } from "./viewport.js";

const desk = document.querySelector("#desk").dataset;
const shot = Number(desk.shot);
const [up, down] = desk.fps.split("/").map(Number);
const find = (selector) => document.querySelector(selector);
/** Write a text only where it is another: a rewritten text is laid out and painted anew at every step. */
const write = (selector, text) => { const box = find(selector); if (box.textContent !== String(text)) box.textContent = text; };

const store = createStore({
  first: Number(desk.first), last: Number(desk.last), fps: up / (down || 1), width: Number(desk.width), height: Number(desk.height), aspect: 1,
  frame: Number(desk.first), range: null, playing: false, stage: desk.stage, tool: "pick", view: "plate", held: false, floor: 8,
  layers: { tracks: true, tails: true, sticks: true, points: false, card: true, masks: false, coverage: false },
  bench: "find", samples: new Map(), flagged: null, sightings: null, sightLength: 12, taken: new Set(), copy: null, stack: [], split: 0.5, images: "plate", showSolved: false,
  lens: { lines: {}, origin: null, measured: null, fit: null, trouble: "", tool: null, chosen: null, bench: "lines", shown: true, look: "shot", grid: false, floor: true, hand: 0 }, straight: null,
  masks: null, mask: null, maskTool: "shape", proposal: null,
  exaggeration: 20, selection: new Set(), tracks: null, attempt: null, server: null, preview: null, hasGround: false,
});
const { state } = store;
const frames = new Frames(state.first, (frame) => {
  if (frame === state.frame) { viewport.redraw(); scene?.redraw(); }
  write("#cached", frames.kept.size < Math.min(frames.hashes.length, frames.room) ? `${frames.kept.size} of ${frames.hashes.length} frames cached` : "");
});
const viewport = new Viewport(find("#plate"), store, frames);
const lanes = new Lanes(find("#lanes"), store);
const list = new TrackList(find("#rows"), store);
const playback = new Playback(store);
let scene = null;

let line = Promise.resolve();
let loading = Promise.resolve();

/** Do something on the server once what was asked before is done; on any error say it and show the newest state. */
function act(work) {
  line = line.then(work).catch(async (error) => {
    toast(error.message, true);
    await renew().catch(() => {});
  });
  return line;
}

async function edit(kind, payload, said) {
  await act(async () => {
    const server = await post(`/shots/${shot}/edit`, { kind, payload, revision: state.server.revision });
    await take(server);
    if (said) toast(said);
  });
}

/** Take the server's state; fetch tracks and attempt anew where they may have changed. */
async function take(server) {
  const before = state.server;
  // An answer that was under way while an edit was made must not take the page back behind it.
  if (before && server.revision < before.revision) return;
  store.set({ server, aspect: server.camera.pixel_aspect, hasGround: Boolean(server.datum?.ground) });
  if (JSON.stringify(before?.camera) !== JSON.stringify(server.camera)) fillFocal(server.camera);
  frames.use(server.proxies);
  find("#coming").hidden = server.proxies.length > 0;
  const fresh = !before || before.revision !== server.revision;
  const moved = !before || before.tracks_stamp !== server.tracks_stamp;
  // The same state may come twice, with an answer and with an event: both wait for what it brought.
  if (fresh) loading = Promise.all([loading.catch(() => {}), moved && fetchTracks(), masks.refresh()]);
  await loading;
  const datum = JSON.stringify(server.datum);
  if (!before || before.pinned !== server.pinned || JSON.stringify(before.datum) !== datum) await fetchAttempt(server.pinned);
  drawPanels();
}

async function fetchTracks() {
  const tracks = indexTracks(await get(`/shots/${shot}/tracks.json`), state.first, state.last);
  store.set({ tracks, selection: new Set([...state.selection].filter((id) => tracks.row.has(id))) });
}

async function fetchAttempt(id) {
  const attempt = id ? indexAttempt(await get(`/attempts/${id}.json`)) : null;
  store.set({ attempt });
  if (attempt?.trouble) toast(attempt.trouble, true);
}

/** The solve's focal length is the camera's until another is typed. */
function fillFocal(camera) {
  find("#focalknown").value = camera.focal_state;
  find("#focal").value = camera.focal_mm ?? "";
  find("#focalspread").value = camera.focal_sigma_mm || "";
  showFocalFields();
}

function showFocalFields() {
  find("#focalmmfield").hidden = find("#focalknown").value === "unknown";
  find("#focalspread").hidden = find("#focalknown").value !== "start";
}

const renew = async () => take(await get(`/shots/${shot}/state.json`));

function drawPanels() {
  const { server } = state;
  drawCourse(server);
  drawFigures(server);
  drawLedger(server, shot, (id) => edit("pin", { attempt: id }));
  drawFindings(server, (ids) => { store.set({ selection: new Set(ids) }); goStage("tracks"); });
  drawDatum(server, state.attempt);
}

function goStage(stage) {
  if (stage === state.stage) return;
  history.pushState({ stage }, "", `/shots/${shot}/${stage}`);
  store.set({ stage });
}

function setView(view) {
  store.set({ view });
  find("#platepane").hidden = view === "space";
  find("#spacepane").hidden = view === "plate";
  if (view !== "plate" && !scene) {
    scene = new Scene(find("#space"), store, frames);
    scene.load(state.attempt);
  }
  find("#spacenote").textContent = state.attempt ? "" : "The scene appears here once the shot is solved.";
  scene?.redraw();
}

const selected = () => [...state.selection];
const settings = () => ({ count: find("#count").value, spacing: find("#spacing").value, threshold: find("#threshold").value, bridge: find("#bridge").value, images: find("#images").value });
const start = (kind, body) => act(async () => { await post(`/shots/${shot}/${kind}`, body); toast("Started; it runs beside your work."); });
const datum = (what, extra = {}) => act(async () => take(await post(`/shots/${shot}/datum`, { what, tracks: selected(), revision: state.server.revision, ...extra })));
const move = (way) => act(async () => { const server = await post(`/shots/${shot}/${way}`); await take(server); toast(`${way === "undo" ? "Undone" : "Done again"}: ${server.said}`); });
const setStates = (to) => edit("states", { states: { [to]: selected() } });
const layer = (name) => store.set({ layers: { ...state.layers, [name]: !state.layers[name] } });

async function preview() {
  if (!find("#preview").checked) return store.set({ preview: null });
  const { frame } = state;
  return act(async () => {
    const found = await post(`/shots/${shot}/preview`, { ...settings(), frame });
    find("#previewed").textContent = `${found.features.length} found`;
    store.set({ preview: { frame, features: found.features } });
  });
}

const masks = setUpMasks({ store, viewport, shot, act, take, goStage, finish: () => weeding.placer.finish() });
lanes.guest = masks.editor;
const weeding = setUpTracks({ store, viewport, lanes, shot, act, take, goStage, settings });
const lens = setUpLens({ store, viewport, shot, act, take, start });
viewport.guests = [masks.editor, weeding.placer, lens.drawer];

/** What of the lens is free, soft or fixed in the next solve. */
function terms() {
  const out = {};
  for (const chosen of document.querySelectorAll("[data-term]")) {
    const name = chosen.dataset.term;
    if (chosen.value) out[name] = { state: chosen.value, value: find(`[data-value="${name}"]`).value.replace(",", "."), sigma: find(`[data-sigma="${name}"]`).value.replace(",", ".") };
  }
  return out;
}

/** Escape gives up what is being drawn, or else selects nothing. */
const escape = () => masks.editor.cancel() || lens.drawer.cancel() || weeding.placer.cancel() || store.set(state.samples.size ? { samples: new Map() } : { selection: new Set() });
/** Delete removes what the stage is about: a point of a shape, a mask, or the selected tracks. */
function remove() {
  if (lens.remove() || weeding.removeSamples()) return null;
  if (state.stage !== "masks") return edit("tracks", { remove: selected() });
  return masks.editor.removePoint() || masks.actions.find((a) => a.id === "mask-delete").run();
}

const palette = new Palette([
  { id: "play", name: "Play or stop", keys: "Space", run: () => playback.toggle() },
  { id: "back", name: "One frame back", keys: "ArrowLeft", run: () => playback.step(-1) },
  { id: "on", name: "One frame on", keys: "ArrowRight", run: () => playback.step(1) },
  { id: "back10", name: "Ten frames back", keys: "Shift ArrowLeft", run: () => playback.step(-10) },
  { id: "on10", name: "Ten frames on", keys: "Shift ArrowRight", run: () => playback.step(10) },
  { id: "start", name: "To the first frame", keys: "Home", run: () => store.set({ frame: state.first }) },
  { id: "end", name: "To the last frame", keys: "End", run: () => store.set({ frame: state.last }) },
  { id: "norange", name: "Forget the chosen frames", run: () => store.set({ range: null }) },
  { id: "undo", name: "Undo", keys: "Ctrl Z", run: () => move("undo") },
  { id: "redo", name: "Redo", keys: "Ctrl Y", run: () => move("redo") },
  { id: "tool-pick", name: "Pick single tracks", keys: "1", run: () => store.set({ tool: "pick" }) },
  { id: "tool-box", name: "Select with a box", keys: "2", run: () => store.set({ tool: "box" }) },
  { id: "tool-lasso", name: "Select with a lasso", keys: "3", run: () => store.set({ tool: "lasso" }) },
  { id: "none", name: "Select nothing", keys: "Escape", run: escape },
  { id: "all", name: "Select all tracks", keys: "Ctrl A", run: () => store.set({ selection: new Set(state.tracks?.ids ?? []) }) },
  { id: "exclude", name: "Exclude the selected tracks", keys: "X", run: () => setStates("excluded") },
  { id: "restore", name: "Restore the selected tracks", keys: "R", run: () => setStates("active") },
  { id: "withhold", name: "Withhold the selected tracks as check tracks", keys: "C", run: () => setStates("check") },
  { id: "delete", name: "Delete the selected tracks, point or mask", keys: "Delete", also: "Backspace", run: remove },
  { id: "view-plate", name: "View: plate", keys: "4", run: () => setView("plate") },
  { id: "view-both", name: "View: plate and 3D", keys: "5", run: () => setView("both") },
  { id: "view-space", name: "View: 3D", keys: "6", run: () => setView("space") },
  { id: "through", name: "3D: look through the camera, or orbit", keys: "7", run: () => { if (!scene) setView("both"); scene.setThrough(!scene.through); find("#through").classList.toggle("on", scene.through); } },
  { id: "space-home", name: "3D: see the whole scene", run: () => scene?.home() },
  { id: "fit", name: "Fit the plate to the view", keys: "0", run: () => viewport.fit() },
  ...["tracks", "tails", "sticks", "points", "card", "masks", "coverage"].map((name) => ({ id: `layer-${name}`, name: `Show or hide: ${{ tracks: "tracks", tails: "tails", sticks: "residual sticks", points: "reprojected points", card: "checker card", masks: "masks", coverage: "coverage" }[name]}`, run: () => layer(name) })),
  { id: "follow", name: "Find and follow features", run: () => start("follow", settings()) },
  { id: "solve", name: "Solve the camera", run: () => start("solve", { motion: find("#motion").value, distortion: find("#distortion").value, focal_mm: find("#focal").value, focal_state: find("#focalknown").value, focal_sigma_mm: find("#focalspread").value, terms: terms(), zoom: find("#zoom").checked, share: [...document.querySelectorAll("[data-share]:checked")].map((box) => Number(box.dataset.share)) }) },
  { id: "ingest", name: "Make the plate's proxies again", run: () => start("ingest", {}) },
  { id: "datum-ground", name: "World: ground from the selected tracks", run: () => datum("ground") },
  { id: "datum-origin", name: "World: origin from the selected track", run: () => datum("origin") },
  { id: "datum-scale", name: "World: scale from two selected tracks", run: () => datum("scale", { distance: find("#distance").value, unit: find("#unit").value }) },
  { id: "datum-clear", name: "World: clear the datum", run: () => datum("clear") },
  ...masks.actions,
  ...weeding.actions,
  ...lens.actions,
  ...[...document.querySelectorAll(".stop")].map((s) => ({ id: `stage-${s.dataset.key}`, name: `Go to: ${s.querySelector("b").textContent}`, run: () => goStage(s.dataset.key) })),
  { id: "palette", name: "Find an action", keys: "Ctrl K", also: "/", run: () => palette.open() },
  { id: "keys", name: "Show the keyboard", keys: "?", run: () => find("#keys").showModal() },
  { id: "board", name: "Go to the board", run: () => { location.href = "/"; } },
]);

find("#focalknown").addEventListener("change", showFocalFields);
for (const button of document.querySelectorAll("[data-layer]")) button.addEventListener("click", () => layer(button.dataset.layer));
for (const stop of document.querySelectorAll(".stop")) stop.addEventListener("click", (e) => { e.preventDefault(); goStage(stop.dataset.key); });
addEventListener("popstate", () => store.set({ stage: location.pathname.split("/").pop() }));
find("#exaggerate").addEventListener("input", (e) => store.set({ exaggeration: Math.round(10 ** (e.target.value / 40)) }));
for (const id of ["#preview", "#count", "#spacing", "#threshold"]) find(id).addEventListener("change", preview);
// Enter takes what was typed and gives the keys back to the picture.
addEventListener("keydown", (e) => { if (e.key === "Enter" && e.target.matches("#desk input:not(form input)")) e.target.blur(); });
addEventListener("keydown", (e) => { if (e.key.toLowerCase() === "h" && !/^(INPUT|SELECT)$/.test(e.target.tagName) && !e.ctrlKey) store.set({ held: true }); });
addEventListener("keyup", (e) => { if (e.key.toLowerCase() === "h") store.set({ held: false }); });

const LOOKS = ["frame", "layers", "exaggeration", "selection", "tracks", "attempt", "preview", "held", "tool", "masks", "mask", "proposal", "stage", "bench", "flagged", "sightings", "taken", "sightLength", "copy", "showSolved", "server", "lens", "straight"];
const LANES = ["tracks", "attempt", "selection", "stage", "masks", "mask", "samples", "server"];
store.on((changed) => {
  if (LOOKS.some((k) => changed.has(k))) viewport.redraw();
  if (["frame", "range", ...LANES].some((k) => changed.has(k))) lanes.draw(!LANES.some((k) => changed.has(k)));
  if (["mask", "maskTool", "proposal", "stage"].some((k) => changed.has(k))) masks.draw();
  if (["stage", "bench", "selection", "server", "tracks", "taken"].some((k) => changed.has(k)) || (changed.has("frame") && state.stage === "tracks" && state.bench !== "find" && !state.playing)) weeding.draw(changed);
  if (["stage", "lens", "server"].some((k) => changed.has(k)) || (changed.has("frame") && state.stage === "lens")) lens.draw(changed);
  if (changed.has("frame")) { write("#frame", state.frame); scene?.redraw(); if (find("#preview").checked && !state.playing) preview(); }
  if (changed.has("tracks") || changed.has("attempt")) list.refresh(); else if (changed.has("selection")) list.fill();
  if (changed.has("selection")) list.reveal();
  if (changed.has("attempt")) scene?.load(state.attempt);
  if (changed.has("attempt")) drawLensReport(find("#lensreport"), state.attempt?.world, Number(find("#lensreport").dataset.mm), lens.actions.find((a) => a.id === "lens-solved").run);
  if (changed.has("selection") || changed.has("attempt")) scene?.select();
  if (changed.size > 1 || !changed.has("frame")) drawControls(changed);
});

function drawControls(changed) {
  if (changed.has("stage")) showStage(state.stage);
  if (changed.has("stage") || changed.has("attempt")) find('[data-layer="card"]').hidden = !state.attempt?.card;
  if (changed.has("playing")) find("#play use").setAttribute("href", `${desk.icons}#${state.playing ? "pause" : "play"}`);
  write("#rangelabel", state.range ? `frames ${state.range[0]}-${state.range[1]}` : "");
  write("#factor", `×${state.exaggeration}`);
  write("#selected", state.selection.size ? `${state.selection.size} selected` : state.tracks ? `${state.tracks.ids.length} tracks` : "");
  for (const tool of ["pick", "box", "lasso"]) find(`[data-act="tool-${tool}"]`).classList.toggle("on", state.tool === tool);
  for (const view of ["plate", "both", "space"]) find(`[data-act="view-${view}"]`).classList.toggle("on", state.view === view);
  for (const button of document.querySelectorAll("[data-layer]")) button.classList.toggle("on", state.layers[button.dataset.layer]);
}

showStage(state.stage);
drawControls(new Set(["stage"]));
weeding.draw();
lens.draw();
renew().then(() => { document.body.dataset.ready = "yes"; }).catch((e) => toast(e.message, true));
followJobs(shot, () => renew().catch((e) => toast(e.message, true)));
