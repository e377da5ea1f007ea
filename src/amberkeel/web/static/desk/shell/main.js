// The shot desk: makes its parts, and says what is drawn when the state changes.

import { bodyShown } from "../lanes/body.js";
import { Lanes } from "../lanes/lanes.js";
import { indexAttempt, indexTracks, inWorld } from "../tracks/index.js";
import { TrackList } from "../tracks/list.js";
import { Frames } from "../viewport/frames.js";
import { Overglass } from "../viewport/overglass.js";
import { Playback } from "../viewport/playback.js";
import { Space } from "../viewport/space.js";
import { Viewport } from "../viewport/viewport.js";
import { editing, going, looking, playing } from "./actions.js";
import { get, toast } from "./api.js";
import { drawControls, listenToControls } from "./controls.js";
import { drawCourse } from "./course.js";
import { Desk } from "./desk.js";
import { find, oneAtATime, write } from "./dom.js";
import { Help, listenToFirstLines, showFirstLine } from "./help.js";
import { History } from "./history.js";
import { followJobs } from "./jobs.js";
import { Palette } from "./palette.js";
import { Room, sharing } from "./room.js";
import { STAGES } from "./stages.js";
import { firstState } from "./state.js";
import { createStore } from "./store.js";

const page = find("#desk").dataset;
const store = createStore(firstState(page));
const desk = new Desk(Number(page.shot), store);
const { state } = store;
const space = new Space(desk);
desk.space = space;
desk.frames = new Frames(state.first, (frame) => {
  if (frame === state.frame) {
    desk.viewport.redraw();
    space.scene?.redraw();
  }
  const { frames } = desk;
  const all = frames.hashes.length;
  write("#cached", frames.kept.size < Math.min(all, frames.room) ? `${frames.kept.size} of ${all} frames cached` : "");
});
desk.viewport = new Viewport(find("#plate"), store, desk.frames);
desk.viewport.over = new Overglass(find("#overglass"), store, {
  shot: desk.shot,
  frames: desk.frames,
  redraw: () => desk.viewport.redraw(),
});
desk.lanes = new Lanes(find("#lanes"), store);
const list = new TrackList(find("#rows"), store);
const playback = new Playback(store);
const stages = Object.fromEntries(Object.entries(STAGES).map(([name, Stage]) => [name, new Stage(desk)]));
desk.stages = stages;
const room = new Room(desk);
const help = new Help(desk);
const past = new History(desk);
const guests = Object.values(stages)
  .map((stage) => stage.guest)
  .filter(Boolean);
desk.viewport.guests = guests;
desk.lanes.guest = stages.masks.guest;

async function fetchTracks(server, before) {
  if (before && before.tracks_stamp === server.tracks_stamp) return;
  const tracks = indexTracks(await get(desk.at("tracks.json")), state.first, state.last);
  store.set({ tracks, selection: new Set([...state.selection].filter((id) => tracks.row.has(id))) });
}

/** Whether it is still worked out how sure the pinned attempt is. */
const measuring = (server) => server.attempts.find((a) => a.id === server.pinned)?.figures.measuring ?? false;

async function fetchAttempt(id, before) {
  // Where only the datum is another, the residuals stay as they are.
  const own = state.attempt;
  const whole = !own || own.id !== id || before?.pinned !== id;
  const part = async () => inWorld(own, await get(`/attempts/${id}/world.json`));
  const attempt = !id ? null : whole ? indexAttempt(await get(`/attempts/${id}.json`)) : await part();
  store.set({ attempt });
  if (attempt?.trouble) toast(attempt.trouble, true);
}

desk.renewers = [
  fetchTracks,
  ...Object.values(stages)
    .filter((s) => s.renew)
    .map(
      (s) =>
        (...states) =>
          s.renew(...states),
    ),
];
desk.settle = async (server, before) => {
  desk.frames.use(server.proxies);
  find("#coming").hidden = server.proxies.length > 0;
  const kept = (one) => JSON.stringify([one.pinned, one.datum, measuring(one)]);
  const same = before && kept(before) === kept(server);
  const measured = (one) => one && JSON.stringify([one.pinned, measuring(one)]);
  if (!same) await fetchAttempt(server.pinned, measured(before) === measured(server) ? before : null);
  for (const stage of Object.values(stages)) stage.settle?.(server, before);
  // Last, so that what the course and the undo button say is there to be worked on.
  drawCourse(server);
};

/** Escape gives up what is being drawn, or else selects nothing. */
const leave = () =>
  room.leave() ||
  help.leave() ||
  guests.some((guest) => guest.cancel()) ||
  store.set(state.samples.size ? { samples: new Map() } : { selection: new Set() });
/** Delete removes what the stage is about, or else the selected tracks. */
const remove = () => stages[state.stage]?.remove?.() || desk.edit("tracks", { remove: desk.selected });

const palette = new Palette([
  ...playing(desk, playback),
  ...editing(desk, { leave, remove }),
  ...looking(desk, space),
  ...sharing(room),
  { id: "history", name: "History: who did what, and back to any step", run: () => past.open() },
  { id: "help", name: "Help on this stage", keys: "F1", run: () => help.toggle() },
  ...Object.values(stages).flatMap((stage) => stage.actions),
  ...going(desk, () => palette),
]);

const LOOKS = [
  "frame",
  "layers",
  "exaggeration",
  "selection",
  "only",
  "tracks",
  "attempt",
  "slip",
  "preview",
  "held",
  "tool",
  "masks",
  "mask",
  "proposal",
  "stage",
  "bench",
  "flagged",
  "sightings",
  "taken",
  "sightLength",
  "copy",
  "showSolved",
  "server",
  "lens",
  "straight",
  "world",
  "ties",
  "solids",
  "before",
  "measured",
];
const LANES = [
  "lane",
  "overlay",
  "sure",
  "tracks",
  "attempt",
  "selection",
  "stage",
  "masks",
  "mask",
  "samples",
  "server",
  "measured",
];
let shown = [];
store.on((changed) => {
  const any = (keys) => keys.some((key) => changed.has(key));
  // Of the world and of ties the lanes show what is chosen alone; what lies under the pointer changes all the time.
  const before = shown;
  shown = [state.world.place, bodyShown(state), state.ties.bodyPicked];
  const placed = shown.some((one, k) => one !== before[k]);
  if (any(LOOKS)) desk.viewport.redraw();
  if (placed || any(["frame", "range", ...LANES])) desk.lanes.draw(!placed && !any(LANES));
  for (const stage of Object.values(stages)) stage.changed?.(changed);
  if (changed.has("frame")) write("#frame", state.frame);
  if (changed.has("stage")) showFirstLine(state.stage);
  space.draw(changed);
  if (any(["tracks", "attempt", "only"])) list.refresh();
  else if (changed.has("selection")) list.fill();
  if (changed.has("selection")) list.reveal();
  if (changed.size > 1 || !changed.has("frame")) drawControls(state, changed, page.icons);
});

listenToControls(desk);
listenToFirstLines();
showFirstLine(state.stage);
drawControls(state, new Set(["stage"]), page.icons);
for (const stage of Object.values(stages)) stage.draw?.();
desk
  .renew()
  .then(() => {
    document.body.dataset.ready = "yes";
  })
  .catch((e) => toast(e.message, true));
followJobs(
  desk.shot,
  oneAtATime(() => desk.renew().catch((e) => toast(e.message, true))),
  (job) => stages.masks.working(job),
);
