// The tracks stage at work: what its buttons, fields, pointer and keys do.
import { get, post, postForm, toast } from "./api.js";
import { OPERATIONS, drawStack } from "./copypanel.js";
import { element } from "./panels.js";
import { Placer } from "./placing.js";
import { indexSightings, onFrame } from "./sightings.js";
import { FILTERS, caught, drawFilters, drawReturns, jumpSamples } from "./weeding.js";

const find = (selector) => document.querySelector(selector);
const BENCHES = ["find", "place", "surface", "choose", "weed", "tags", "copy", "table"];
const HINTS = {
  none: "Click a spot to place a track; hold and drag to aim, with the loupe.",
  here: "Drag the cross to set a key. Drag the solid corner: pattern; the dashed one: search area.",
  away: "It has no place on this frame. Hold Shift and click to set a key, or go to a frame where it lives.",
};

/** Wire the stage up. `desk` has store, viewport, lanes, shot, act, take and goStage. */
export function setUpTracks(desk) {
  const { store, viewport, lanes, shot, act, take } = desk;
  const { state } = store;
  const at = (path) => `/shots/${shot}/${path}`;
  const said = async (answer) => { await take(answer); if (answer.said) toast(answer.said); return answer; };
  const revision = () => state.server.revision;
  const send = (path, body) => act(async () => said(await post(at(path), { ...body, revision: revision() })));
  const start = (path, body) => act(async () => { await post(at(path), body); toast("Started; it runs beside your work."); });
  const images = () => find("#images").value;
  const selected = () => [...state.selection];
  const span = () => state.range ?? [state.first, state.last];
  let judged = null;
  let judging = 0;
  let looked = 0;
  let copying = 0;
  let soon = 0;
  let known = "";

  const handSettings = () => ({
    model: find("#patchmodel").value, reference: find("#reference").value,
    min_score: Number(find("#minscore").value.replace(",", ".")), patience: Number(find("#patience").value),
  });

  const placer = new Placer(store, viewport, {
    place: (x, y) => act(async () => {
      const scale = Math.max(1, state.width / 1280);
      const sides = { pattern: [Math.round(10 * scale), Math.round(10 * scale)], search: [Math.round(26 * scale), Math.round(26 * scale)] };
      const answer = await said(await post(at("tracks/place"), { frame: state.frame, x, y, images: images(), settings: { ...handSettings(), ...sides } }));
      store.set({ selection: new Set([answer.track]) });
    }),
    key: (id, x, y) => send(`tracks/${id}/key`, { frame: state.frame, x, y }),
    settings: (id, settings) => send(`tracks/${id}/settings`, { settings }),
    surface: (outline) => start("surface", { outline, frame: state.frame, grid: [Number(find("#gridx").value), Number(find("#gridy").value)], first: span()[0], last: span()[1], images: images() }),
    loupe: (place, id) => loupe(place, id),
  });

  /** Show the spot magnified beside the reference; answers that come late are let go. */
  async function loupe(place, id) {
    const box = find("#loupe");
    if (!place || state.bench !== "place" || state.stage !== "tracks") { box.hidden = true; return; }
    const mine = (looked += 1);
    clearTimeout(soon);
    await new Promise((done) => { soon = setTimeout(done, 45); });
    const settings = { ...(state.tracks?.settings[id] ?? {}), ...(placer.grip?.settings ?? {}) };
    const seen = await post(at("loupe"), { frame: state.frame, x: place[0], y: place[1], track: id, images: images(), settings }).catch(() => null);
    if (!seen || mine !== looked) return;
    box.hidden = false;
    const [px, py] = viewport.place(...place);
    box.classList.toggle("aside", px < 360 && py < 260);
    find("#loupehere").src = `data:image/png;base64,${seen.here}`;
    find("#loupename").textContent = `frame ${state.frame}, ×${Math.round(148 / (2 * seen.half + 1))}`;
    find("#loupethen").hidden = !seen.reference;
    if (seen.reference) find("#loupereference").src = `data:image/png;base64,${seen.reference}`;
    find("#loupefrom").textContent = `key at ${seen.frame}`;
    find("#loupescore").textContent = seen.score == null ? seen.note ?? "" : `match ${seen.score.toFixed(2)}${seen.sigma == null ? "" : `  σ ${seen.sigma.toFixed(2)} px`}`;
  }

  const followHand = (stops, from) => {
    const { chosen } = placer;
    if (!chosen) return toast("Select one track that was placed by hand.", true);
    if (stops.some((s) => s < state.first || s > state.last)) return toast("The plate ends here.", true);
    const begin = from ?? state.frame;
    return act(async () => {
      const answer = await post(at(`tracks/${chosen.id}/follow`), { start: begin, stops, revision: revision() });
      if (answer.job) return toast("Following; it runs beside your work.");
      await take(answer);
      const t = state.tracks.row.get(chosen.id);
      if (state.tracks.frames.slice(state.tracks.first[t], state.tracks.first[t + 1]).includes(stops[0])) return store.set({ frame: stops[0] });
      return toast(answer.said, true);
    });
  };
  const ends = (way) => (way > 0 ? span()[1] : span()[0]);
  const both = () => followHand([...new Set([span()[1], span()[0]])].filter((s) => s !== state.frame));

  /** Change tracks; what was chosen in the curves is forgotten. */
  const weed = (what, body = {}) => send("tracks/weed", { what, tracks: selected(), ...body }).then(() => store.set({ samples: new Map() }));

  function cut() {
    const samples = Object.fromEntries([...state.samples].map(([id, frames]) => [id, [...frames]]));
    if (state.samples.size) return weed("cut", { samples });
    if (!state.range) return toast("Drag a box around samples in the curves, or choose frames in a lane (Shift and drag).", true);
    const [a, b] = state.range;
    const frames = Array.from({ length: b - a + 1 }, (_, k) => a + k);
    return weed("cut", { samples: Object.fromEntries(selected().map((id) => [id, frames])) });
  }

  const inRange = (what) => () => {
    if (!state.range) return toast("Choose frames first: drag in a lane with Shift.", true);
    return weed(what, { first: state.range[0], last: state.range[1] });
  };

  /** Ask for a name, and a colour where one is wanted. */
  function ask(title, value, colour) {
    const dialog = find("#ask");
    find("#asktitle").textContent = title;
    find("#askvalue").value = value;
    find("#askcolour").hidden = !colour;
    find("#askcolour").value = colour || "#8fd0a0";
    dialog.returnValue = "";
    dialog.showModal();
    find("#askvalue").select();
    return new Promise((done) => dialog.addEventListener("close", () => done(dialog.returnValue === "no" || dialog.returnValue === "" ? null : [find("#askvalue").value, find("#askcolour").value]), { once: true }));
  }
  find("#askvalue").addEventListener("keydown", (e) => { if (e.key === "Enter") { e.preventDefault(); find("#ask").close("yes"); } });

  async function rename() {
    if (state.selection.size !== 1) return toast("Select one track to name.", true);
    const [id] = state.selection;
    const answer = await ask("Name of the track", state.tracks.names[state.tracks.row.get(id)]);
    return answer && weed("rename", { name: answer[0] });
  }

  async function group() {
    if (!state.selection.size) return toast("Select the tracks to group.", true);
    const of = state.tracks.groups[state.tracks.row.get(selected()[0])];
    const answer = await ask("Group (empty takes them out of theirs)", of || "", state.server.groups[of]?.colour ?? "#8fd0a0");
    return answer && weed("group", { name: answer[0], colour: answer[1] });
  }

  function lock() {
    const locked = new Set(state.tracks?.locked ?? []);
    return weed("lock", { locked: !selected().every((id) => locked.has(id)) });
  }

  /** Fetch the figures by which tracks are weeded, where they are looked at. */
  async function judge() {
    if (state.stage !== "tracks" || state.bench !== "weed" || !state.server) return;
    const stamp = `${state.server.tracks_stamp} ${state.server.revision}`;
    if (known === stamp && judged) return;
    known = stamp;
    const mine = (judging += 1);
    judged = null;
    drawWeeding();
    const found = await get(at("judgement.json")).catch((e) => { toast(e.message, true); return null; });
    if (mine !== judging) return;
    judged = found;
    drawWeeding();
  }

  function drawWeeding() {
    drawFilters(judged, {
      changed: () => drawWeeding(),
      preview: (key) => store.set({ flagged: key ? new Set(caught(judged, key)) : null }),
      select: (key, add) => {
        const ids = caught(judged, key);
        store.set({ selection: new Set([...(add ? state.selection : []), ...ids]), samples: key === "jump" ? jumpSamples(judged, state.tracks) : new Map() });
        if (key === "jump") toast("Their jumping samples are chosen: Cut takes just those.");
      },
    });
    drawReturns(judged, ([a, b]) => {
      const { tracks } = state;
      const t = tracks.row.get(a);
      store.set({ selection: new Set([a, b]), frame: tracks.frames[tracks.first[t + 1] - 1] });
    }, ([a, b]) => { store.set({ selection: new Set([a, b]) }); weed("join", { tracks: [a, b] }); });
    const groups = Object.entries(state.server?.groups ?? {}).filter(([name]) => state.tracks?.groups.includes(name));
    find("#groups").replaceChildren(...groups.map(([name, { colour, hidden }]) => {
      const row = element("div", `maskrow${hidden ? " off" : ""}`);
      const dot = element("i");
      dot.style.background = colour;
      const count = state.tracks.groups.filter((g) => g === name).length;
      const eye = element("button", "button quiet", hidden ? "show" : "hide");
      eye.style.padding = "0 6px";
      eye.addEventListener("click", (e) => { e.stopPropagation(); weed("hide", { name, hidden: !hidden }); });
      row.append(dot, element("span", "grow truncate", name), element("span", "fig label", `${count}`), eye);
      row.addEventListener("click", () => store.set({ selection: new Set(state.tracks.ids.filter((_, t) => state.tracks.groups[t] === name)) }));
      return row;
    }));
  }

  /** Sightings are fetched when they are looked at, and anew when there are others. */
  async function sightings() {
    if (state.stage !== "tracks" || state.bench !== "choose" || !state.server) return;
    const of = state.server.sightings;
    if (of && state.sightings?.of !== of) {
      const data = await get(at("sightings.json"));
      store.set({ sightings: { ...indexSightings(data, state.first, state.last), of }, taken: new Set() });
    }
    const here = onFrame(state).length;
    find("#sightwords").textContent = !of ? "Candidates are chained over the frames and shown with their tails; those you choose become tracks." : `${state.sightings?.count ?? 0} sightings, ${here} in sight here. Click, box or lasso them on the plate.`;
    find("#sightcount").textContent = state.taken.size;
  }

  viewport.picks = () => (state.stage === "tracks" && state.bench === "choose" && state.sightings
    ? { items: onFrame(state).map(([n, x, y]) => [n, ...viewport.place(x, y)]), chosen: state.taken, set: (taken) => store.set({ taken }) }
    : null);

  /** Fetch this frame of the copy as it is now, and show it right of the line. */
  async function showCopy() {
    if (state.stage !== "tracks" || state.bench !== "copy") { if (state.copy) store.set({ copy: null }); return; }
    const mine = (copying += 1);
    const stack = encodeURIComponent(JSON.stringify(state.stack));
    const answer = await fetch(at(`copy/${state.frame}.jpg?images=${images()}&stack=${stack}`));
    if (mine !== copying) return;
    if (!answer.ok) { toast((await answer.json().catch(() => ({}))).error ?? "The copy cannot be shown.", true); return; }
    const picture = await createImageBitmap(await answer.blob());
    if (mine === copying) store.set({ copy: { picture, frame: state.frame } });
  }

  let waiting = 0;
  function changeStack(stack, settled) {
    store.set({ stack: [...stack] });
    if (settled) drawStack(state.stack, changeStack);
    clearTimeout(waiting);
    waiting = setTimeout(showCopy, 120);
    if (settled) send("copy", { stack });
  }

  for (const name of Object.keys(OPERATIONS)) find("#addoperation").append(new Option(name, name));
  find("#addoperation").addEventListener("change", (e) => {
    if (e.target.value) changeStack([...state.stack, { name: e.target.value, figures: {}, on: true }], true);
    e.target.value = "";
  });
  find("#tableform").addEventListener("submit", (e) => {
    e.preventDefault();
    act(async () => said(await postForm(at("tracks.csv"), new FormData(e.target))));
  });
  for (const id of ["#patchmodel", "#reference", "#minscore", "#patience"]) find(id).addEventListener("change", () => { const { chosen } = placer; if (chosen) send(`tracks/${chosen.id}/settings`, { settings: { ...chosen.settings, ...handSettings() } }); });
  find("#solved").addEventListener("change", (e) => store.set({ showSolved: e.target.checked }));
  find("#sightlength").addEventListener("input", (e) => { store.set({ sightLength: Number(e.target.value) || 1 }); sightings(); });
  find("#images").addEventListener("change", () => { store.set({ images: images() }); showCopy(); });
  find("#curve").addEventListener("change", () => lanes.draw());

  /** Draw what the server and the selection say. */
  function draw(changed = new Set(["stage", "bench", "server"])) {
    const here = state.stage === "tracks";
    find("#desk").classList.toggle("tracking", here);
    find("#curve").hidden = !here;
    find("#followedon").hidden = ["weed", "tags", "table"].includes(state.bench);
    for (const box of document.querySelectorAll("[data-bench]")) box.hidden = box.dataset.bench !== state.bench;
    for (const bench of BENCHES) find(`[data-act="bench-${bench}"]`).classList.toggle("on", state.bench === bench);
    viewport.canvas.style.cursor = here && ["place", "surface"].includes(state.bench) ? "crosshair" : viewport.canvas.style.cursor === "crosshair" && here ? "" : viewport.canvas.style.cursor;
    const { chosen } = placer;
    find("#placehint").textContent = HINTS[!chosen ? "none" : chosen.place ? "here" : "away"];
    if (chosen && changed.has("selection")) {
      const s = state.tracks.settings[chosen.id];
      [find("#patchmodel").value, find("#reference").value, find("#minscore").value, find("#patience").value] = [s.model, s.reference, s.min_score.toFixed(2), s.patience];
    }
    placer.show();
    if (changed.has("server") && state.server) {
      drawTags(state.server.tags);
      const kept = JSON.stringify(state.server.stack);
      if (kept !== JSON.stringify(state.stack)) { store.set({ stack: JSON.parse(kept) }); drawStack(state.stack, changeStack); showCopy(); }
      find("#replacednow").textContent = state.server.replaced ? `in use: ${state.server.replaced.split("/").slice(-2).join("/")}` : "none";
    }
    if (changed.has("bench") && state.bench === "copy") drawStack(state.stack, changeStack);
    if (["bench", "stage", "frame"].some((k) => changed.has(k))) showCopy();
    judge();
    if (judged) drawWeeding();
    sightings();
  }

  function drawTags(report) {
    const box = find("#tagreport");
    if (!report?.found) return box.replaceChildren(element("p", "label", "A tag keeps its name, such as 36h11-0007, on every frame and in every shot."));
    if (!report.found.length) return box.replaceChildren(element("p", "say", `No ${report.family} tag was found. Is it the right family? Tags under 20 px are hard to read.`));
    const rows = report.found.map((r) => {
      const row = element("div", "tagrow");
      row.append(element("b", "fig", r.name), element("span", "fig label", `${r.frames.length} fr`), element("span", "fig", `${r.sides[0].toFixed(0)}-${r.sides[2].toFixed(0)} px`));
      for (const warning of r.warnings) row.append(element("small", "", warning));
      return row;
    });
    if (report.size_mm) {
      const button = element("button", "button w-full mt-1", `Scale from a tag of ${report.size_mm} mm`);
      button.addEventListener("click", () => scaleFrom(report));
      rows.push(button);
    }
    return box.replaceChildren(...rows);
  }

  /** The printed side of the largest tag with corners is a known distance. */
  function scaleFrom(report) {
    const ordered = [...report.found].sort((a, b) => b.sides[1] - a.sides[1]);
    for (const r of ordered) {
      const pair = [1, 2].map((k) => state.tracks.ids[state.tracks.names.indexOf(`${r.name}.${k}`)]);
      if (pair.every(Boolean)) return send("datum", { what: "scale", tracks: pair, distance: String(report.size_mm), unit: "mm" });
    }
    return toast("No tag is large enough to have corners; scale from two tracks instead.", true);
  }

  const bench = (name) => () => { placer.cancel(); desk.goStage("tracks"); store.set({ bench: name }); };
  const words = { find: "find and follow features", place: "place by hand", surface: "follow a surface", choose: "choose from sightings", weed: "judge and weed", tags: "find fiducial tags", copy: "the tracking copy", table: "tables in and out" };
  const follow = (way) => () => followHand([ends(way)]);
  const actions = [
    ...BENCHES.map((name) => ({ id: `bench-${name}`, name: `Tracks: ${words[name]}`, run: bench(name) })),
    { id: "hand-on", name: "Tracks: follow the placed track forwards", run: follow(1) },
    { id: "hand-back", name: "Tracks: follow the placed track backwards", run: follow(-1) },
    { id: "hand-both", name: "Tracks: follow the placed track both ways", keys: "F", run: both },
    { id: "hand-on1", name: "Tracks: follow the placed track one frame on", keys: ".", run: () => followHand([state.frame + 1]) },
    { id: "hand-back1", name: "Tracks: follow the placed track one frame back", keys: ",", run: () => followHand([state.frame - 1]) },
    { id: "hand-unkey", name: "Tracks: remove the key here", run: () => placer.chosen && send(`tracks/${placer.chosen.id}/key`, { frame: state.frame, remove: true }) },
    { id: "sight", name: "Tracks: look for sightings", run: () => start("sight", desk.settings()) },
    { id: "sight-all", name: "Tracks: choose all sightings here that live long enough", run: () => store.set({ taken: new Set(onFrame(state).map(([n]) => n)) }) },
    { id: "sight-take", name: "Tracks: make tracks of the chosen sightings", run: () => act(async () => said(await post(at("sightings"), { rows: [...state.taken], of: state.server.sightings }))).then(() => store.set({ taken: new Set() })) },
    { id: "tags", name: "Tracks: find tags", run: () => start("tags", { family: find("#family").value, size_mm: find("#tagsize").value, corners: find("#tagcorners").checked }) },
    { id: "replaced", name: "Tracks: use replaced images", run: () => send("replaced", { path: find("#replacedpath").value }) },
    { id: "weed-cut", name: "Tracks: cut the chosen samples or frames", run: cut },
    { id: "weed-fill", name: "Tracks: fill gaps on the chosen frames", run: inRange("fill") },
    { id: "weed-trim", name: "Tracks: keep the chosen frames only", run: inRange("trim") },
    { id: "weed-split", name: "Tracks: split before this frame", run: () => weed("split", { frame: state.frame }) },
    { id: "weed-join", name: "Tracks: join the selected pieces", keys: "J", run: () => weed("join") },
    { id: "weed-rename", name: "Tracks: rename", run: rename },
    { id: "weed-group", name: "Tracks: group with a colour", keys: "G", run: group },
    { id: "weed-lock", name: "Tracks: lock or unlock", keys: "L", run: lock },
    ...FILTERS.map(([key, name]) => ({ id: `filter-${key}`, name: `Tracks: select those: ${name.toLowerCase()}`, run: () => { bench("weed")(); judge().then(() => judged && store.set({ selection: new Set(caught(judged, key)) })); } })),
  ];
  /** Delete cuts the samples chosen in the curves; tells whether there were any. */
  const removeSamples = () => (state.stage === "tracks" && state.samples.size ? (cut(), true) : false);
  return { actions, placer, draw, removeSamples };
}
