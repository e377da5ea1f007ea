// The lens stage: lines and what they tell, the camera's facts, profiles, and the look through the lens.
import { get, post, postForm, toast } from "./api.js";
import { boxesOf, followed } from "./boxdraw.js";
import { cameraFacts, drawEvidence, fillCamera, setUpCameraBench } from "./camerabench.js";
import { drawFound, rewriteFigures } from "./lensfound.js";
import { LineDraw, LOOKS } from "./linedraw.js";
import { element } from "./panels.js";
import { drawProfileList } from "./profilelist.js";

const find = (selector) => document.querySelector(selector);
const HAND_STEP = 0.0005;
const BENCHES = ["lines", "camera", "profiles", "through"];

export function setUpLens({ store, viewport, shot, act, take, start }) {
  const { state } = store;
  const url = (end) => `/shots/${shot}/lens/${end}`;
  const set = (patch) => store.set({ lens: { ...state.lens, ...patch } });
  let kept = null;
  let seen = "";
  let flying = 0;
  let asked = 0;
  let answered = 0;
  let next = null;
  let changing = null;

  const wanted = () => {
    const [model, radial] = find("#linemodel").value.split(" ");
    return { model, radial: Number(radial), tangential: find("#linetangential").checked };
  };

  /** Ask the server for a lens and show its newest answer; a question that finds too many before it waits, and only the newest does. */
  async function question(path, body, most) {
    next?.done();
    next = null;
    if (flying >= most) { await new Promise((done) => { next = { path, body, most, done }; }); return; }
    flying += 1;
    const own = asked += 1;
    try {
      const fit = await post(url(path), body());
      if (own > answered) { answered = own; set({ fit: fit.trouble ? null : fit, trouble: fit.trouble ?? "", lines: followed(state.lens.lines, fit.boxes) }); }
    } catch (error) {
      if (own > answered) { answered = own; set({ trouble: error.message, fit: path === "hand" ? state.lens.fit : null }); }
    } finally {
      flying -= 1;
      if (next) { const { path: again, body: its, most: few, done } = next; next = null; question(again, its, few).then(done); }
    }
  }

  /** Ask what the lines tell; quickly while one is dragged: the next question then leaves while an answer is on its way. */
  function ask(quick = false) {
    if (state.lens.hand) return turn(state.lens.hand);
    if (Object.keys(state.lens.lines).length < 2) { set({ fit: null, trouble: "" }); return null; }
    const body = () => ({ lines: state.lens.lines, wanted: wanted(), focal_state: kept?.focal_state, frame: state.frame, quick, grid: state.lens.grid, measured: state.lens.measured, origin: state.lens.origin });
    return question("fit", body, quick ? 3 : 1);
  }

  const edit = (body) => act(async () => take(await post(url("edit"), { ...body, revision: state.server.revision })));

  const send = {
    drag(changed) { set({ lines: { ...state.lens.lines, ...changed } }); ask(true); },
    async settle(name, k) {
      let line = state.lens.lines[name];
      // What is kept are the corners that the last answer put, not those of one on its way.
      if (line.box) await ask();
      if (line.box) return send.keep(Object.fromEntries(Object.entries(state.lens.lines).filter(([, l]) => l.box === line.box)), `Move a corner of ${line.box}`);
      if (find("#linesnap").checked) line = { ...line, points: await snapped(line, k) };
      return send.keep({ [name]: line }, `Move a point of ${name}`);
    },
    keep(lines, label) {
      const now = { ...state.lens.lines };
      for (const [name, line] of Object.entries(lines)) if (line) now[name] = line; else delete now[name];
      set({ lines: now });
      return edit({ lines, label });
    },
    /** The origin while it is dragged, and where it is let go: a place on this frame, or a line's end. */
    origin(origin, done) {
      set({ origin });
      if (!done) return ask(true);
      set({ tool: null });
      return edit({ origin, label: origin ? "Set the origin" : "Take the origin away" });
    },
    box(from, to) {
      return act(async () => {
        const made = await post(url("box"), { frame: state.frame, from, to, lines: state.lens.lines, wanted: wanted(), focal_state: kept?.focal_state });
        set({ lines: { ...state.lens.lines, ...made.lines }, chosen: Object.keys(made.lines)[0], tool: null });
        await take(await post(url("edit"), { lines: made.lines, label: `Put ${made.name}`, revision: state.server.revision }));
      });
    },
    draw(from, to) {
      const axis = state.lens.tool === "edge" ? "" : state.lens.tool;
      const used = Object.keys(state.lens.lines);
      const stem = axis ? axis.toUpperCase() : "edge ";
      let n = 1;
      while (used.includes(`${stem}${n}`)) n += 1;
      return act(async () => {
        const middle = [(from[0] + to[0]) / 2, (from[1] + to[1]) / 2];
        const plain = axis ? [from, to] : [from, middle, to];
        const line = { frame: state.frame, axis, points: plain };
        if (find("#linesnap").checked) {
          try {
            line.points = (await post(url("snap"), { frame: state.frame, points: [from, to] })).points;
          } catch (error) { toast(error.message, true); }
        }
        set({ lines: { ...state.lens.lines, [`${stem}${n}`]: line }, chosen: `${stem}${n}` });
        await take(await post(url("edit"), { lines: { [`${stem}${n}`]: line }, label: `Draw ${stem}${n}`, revision: state.server.revision }));
      });
    },
  };

  async function snapped(line, k) {
    try {
      return (await post(url("snap"), { frame: line.frame, points: line.points, point: k })).points;
    } catch { return line.points; }
  }

  const drawer = new LineDraw(viewport, store, send);

  /** Fetch what is kept, when the shot has changed. */
  async function refresh() {
    if (state.stage !== "lens" || seen === String(state.server?.revision)) return;
    seen = String(state.server?.revision);
    kept = await get(`/shots/${shot}/lens.json`);
    set({ lines: kept.lines, origin: kept.origin, measured: kept.measured, chosen: kept.lines[state.lens.chosen] ? state.lens.chosen : null });
    if (kept.wanted.model) {
      find("#linemodel").value = `${kept.wanted.model} ${kept.wanted.model === "division" ? 0 : kept.wanted.radial}`;
      find("#linetangential").checked = Boolean(kept.wanted.tangential);
    }
    if (kept.measured) find("#measurelength").value = kept.measured.length;
    fillCamera(kept);
    drawProfiles();
    await ask();
  }

  function drawProfiles() {
    const edit = (id) => { changing = id; drawProfiles(); };
    drawProfileList(find("#profilelist"), kept, changing, { use: useLens, edit, save: saveProfile });
    for (const id of ["#stfile", "#platefile"]) find(id).classList.toggle("dim", !kept.straightened);
    find("#straightfiles a").classList.toggle("dim", !kept.profile);
  }

  const saveProfile = (body) => act(async () => {
    await take(await post(url("profile"), { ...body, revision: state.server.revision }));
    changing = null;
    seen = "";
    await refresh();
  });

  const useLens = (body) => act(async () => {
    await take(await post(url("use"), { ...body, revision: state.server.revision }));
    find("#distortion").value = body.none ? "estimate" : "profile";
    toast(body.none ? "No profile is in use now; the next solve estimates the lens." : "In use; the next solve holds it.");
  });

  function drawList() {
    const box = find("#linelist");
    const names = Object.keys(state.lens.lines).filter((name) => !state.lens.lines[name].box);
    const boxes = boxesOf(state.lens.lines);
    if (!names.length && !boxes.length) return box.replaceChildren(element("p", "label my-1", "No lines yet. Choose Edge, or a direction, and drag along an edge of the set from end to end. Or choose Box and drag its corners onto the corners of something square."));
    const here = names.filter((name) => state.lens.lines[name].frame === state.frame);
    const others = names.filter((name) => state.lens.lines[name].frame !== state.frame);
    const head = element("h3", "flex", "Lines");
    head.append(element("span", "ml-auto label", "px off straight, before → after"));
    return box.replaceChildren(head, ...boxes.map(boxRow), ...here.map(lineRow), ...(others.length ? [element("h3", "", `On other frames (${others.length})`)] : []), ...others.map(lineRow));
  }

  function lineRow(name) {
    const line = state.lens.lines[name];
    const report = state.lens.fit?.lines[name];
    const row = element("button", `linerow${state.lens.chosen === name ? " on" : ""}${report?.disagrees ? " bad" : ""}`);
    const mark = element("i", "", LOOKS[line.axis ?? ""].letter || "—");
    mark.style.color = LOOKS[line.axis ?? ""].tint;
    const where = element("span", "label fig", line.frame === state.frame ? "" : `${line.frame}`);
    const figures = element("span", "fig", report ? `${report.before.toFixed(2)} → ${report.after.toFixed(2)}` : `${line.points.length} points`);
    row.append(mark, element("span", "truncate", name), where, figures);
    row.title = report?.disagrees ? "This line disagrees with the others" : `${line.points.length} points on frame ${line.frame}; distance from straight before and after, px`;
    row.addEventListener("click", () => { set({ chosen: name }); store.set({ frame: line.frame }); });
    return row;
  }

  function boxRow([name, count, frame]) {
    const own = Object.keys(state.lens.lines).filter((n) => state.lens.lines[n].box === name);
    const reports = own.map((n) => state.lens.fit?.lines[n]).filter(Boolean);
    const row = element("button", `linerow${own.includes(state.lens.chosen) ? " on" : ""}${reports.some((r) => r.disagrees) ? " bad" : ""}`);
    const worst = Math.max(0, ...reports.map((r) => r.after));
    row.append(element("i", "", "▱"), element("span", "truncate", name), element("span", "label fig", frame === state.frame ? "" : `${frame}`), element("span", "fig", reports.length ? `${count}/8, ${worst.toFixed(2)}` : `${count}/8 corners`));
    row.title = "Corners that were dragged, and the worst of its edges, px from where the box would have it";
    row.addEventListener("click", () => { set({ chosen: own[0] }); store.set({ frame }); });
    return row;
  }

  /** The lens that the look and the grid show: turned by hand, or as the lines tell it. */
  const shown = () => state.lens.fit?.lens ?? null;

  let coming = "";
  async function look() {
    if (state.stage !== "lens" || state.lens.look !== "straight" || !shown()) { if (state.straight) store.set({ straight: null }); return; }
    const address = `${url(`straight/${state.frame}.jpg`)}?lens=${encodeURIComponent(JSON.stringify(shown()))}`;
    if (coming === address || state.straight?.address === address) return;
    coming = address;
    const { frame } = state;
    try {
      const answer = await fetch(address);
      if (!answer.ok) throw new Error((await answer.json().catch(() => ({}))).error ?? "That lens cannot be looked through.");
      const picture = await createImageBitmap(await answer.blob());
      if (coming === address) store.set({ straight: { frame, picture, address } });
    } catch (error) { toast(error.message, true); }
    coming = "";
    if (frame !== state.frame) look();
  }

  function turn(value) {
    if (!Number.isFinite(value)) return null;
    find("#handvalue").value = value.toFixed(4);
    find("#handk1").value = Math.round(value * 1000);
    set({ hand: value });
    return question("hand", () => ({ k1: value, lines: state.lens.lines, frame: state.frame }), 2);
  }

  function draw(changed) {
    for (const bench of BENCHES) {
      find(`[data-lens="${bench}"]`).hidden = state.lens.bench !== bench;
      find(`[data-act="lens-${bench}"]`).classList.toggle("on", state.lens.bench === bench);
    }
    for (const tool of ["edge", "x", "y", "z", "box", "origin"]) find(`[data-act="line-${tool}"]`).classList.toggle("on", state.lens.tool === tool);
    for (const [name, on] of [["lines", state.lens.shown], ["floor", state.lens.floor], ["grid", state.lens.grid], ["straight", state.lens.look === "straight"]]) find(`[data-act="look-${name}"]`).classList.toggle("on", on);
    if (state.stage !== "lens") return;
    // While a point is dragged the figures change and the list does not: laying it out anew would slow the drag.
    if (drawer.dragging) return rewriteFigures(state.lens.fit);
    if (!changed || changed.has("lens") || changed.has("frame")) {
      drawList();
      drawFound(state.lens, state.width);
      if (kept) drawEvidence(kept, state.lens.fit);
    }
    if (!changed || changed.has("server") || changed.has("stage")) refresh().catch((e) => toast(e.message, true));
    if (changed?.has("frame") && !state.playing && state.lens.fit && !state.lens.hand) ask(true);
    look();
  }

  const tool = (name) => { drawer.first = null; set({ tool: state.lens.tool === name ? null : name, look: "shot" }); };
  const remove = () => {
    const { chosen, lines } = state.lens;
    if (state.stage !== "lens" || !chosen) return false;
    if (chosen === "origin") { send.origin(null, true); return true; }
    const { box } = lines[chosen] ?? {};
    const gone = box ? Object.keys(lines).filter((n) => lines[n].box === box) : [chosen];
    send.keep(Object.fromEntries(gone.map((n) => [n, null])), `Delete ${box ?? chosen}`);
    set({ chosen: null });
    return Boolean(lines);
  };

  for (const id of ["#linemodel", "#linetangential"]) find(id).addEventListener("change", () => edit({ wanted: wanted(), label: "Ask for another distortion model" }));
  for (const id of ["#measureline", "#measurelength"]) find(id).addEventListener("change", () => {
    const [line, length] = [find("#measureline").value, find("#measurelength").value.trim()];
    const measured = line && length ? { line, length } : null;
    if (measured || state.lens.measured) edit({ measured, label: measured ? `${line} is ${length} long` : "Forget the measured line" });
  });
  setUpCameraBench();
  find("#overscan").addEventListener("change", (e) => { find("#overscanshare").hidden = e.target.value !== "share"; });
  find("#handk1").addEventListener("input", (e) => turn(Number(e.target.value) / 1000));
  find("#handvalue").addEventListener("change", (e) => turn(Number(e.target.value.replace(",", "."))));
  // Arrows turn the coefficient finely, ten times as much with Shift.
  find("#handvalue").addEventListener("keydown", (e) => {
    const way = { ArrowUp: 1, ArrowDown: -1 }[e.key];
    if (!way) return;
    e.preventDefault();
    turn(Number(e.target.value.replace(",", ".")) + way * HAND_STEP * (e.shiftKey ? 10 : 1));
  });
  find('#chartform [name="pattern"]').addEventListener("change", (e) => { find("#innerfield").hidden = e.target.value === "loose"; });
  find("#chartform").addEventListener("submit", (e) => {
    e.preventDefault();
    act(async () => { await postForm(url("chart"), new FormData(e.target)); toast("Looking for the grid; it runs beside your work."); });
  });

  function straightened() {
    if (state.lens.look === "straight") set({ look: "shot" });
    else if (shown()) set({ look: "straight", tool: null });
    else toast("There is no lens yet: draw two lines or turn k1 by hand.", true);
  }

  const camera = () => edit({ label: "Change the camera's facts", facts: cameraFacts() });

  const actions = [
    ...BENCHES.map((bench) => ({ id: `lens-${bench}`, name: `Lens: ${{ lines: "drawn lines", camera: "the camera's facts", profiles: "profiles", through: "look through it" }[bench]}`, run: () => set({ bench }) })),
    { id: "line-edge", name: "Draw a straight edge", keys: "Shift E", run: () => tool("edge") },
    { id: "line-x", name: "Draw a line along X", keys: "Shift X", run: () => tool("x") },
    { id: "line-y", name: "Draw a line along Y", keys: "Shift Y", run: () => tool("y") },
    { id: "line-z", name: "Draw a line along Z", keys: "Shift Z", run: () => tool("z") },
    { id: "line-box", name: "Set a box onto the picture by its corners", keys: "Shift B", run: () => tool("box") },
    { id: "line-origin", name: "Put the world's origin onto the picture", keys: "Shift O", run: () => tool("origin") },
    { id: "lens-use", name: "Use the lens that the lines tell", run: () => useLens({}) },
    { id: "camera-keep", name: "Keep the camera's facts", run: camera },
    { id: "lens-preset", name: "Keep the sensor's size as a preset", run: () => act(async () => { await post(url("preset"), { name: find("#presetname").value, width: find("#sensorwidth").value }); seen = ""; await refresh(); toast("Kept."); }) },
    { id: "look-lines", name: "Lens: show or hide lines", run: () => set({ shown: !state.lens.shown }) },
    { id: "look-floor", name: "Lens: show or hide floor and horizon", run: () => set({ floor: !state.lens.floor }) },
    { id: "look-grid", name: "Lens: show or hide the grid that the lens bends", keys: "Shift G", run: () => { set({ grid: !state.lens.grid }); if (!state.lens.hand) ask(); } },
    { id: "look-straight", name: "Lens: the plate straightened, or as shot", keys: "Shift S", run: straightened },
    { id: "hand-use", name: "Lens: use k1 as turned by hand", run: () => useLens({ hand: Number(find("#handvalue").value) }) },
    { id: "hand-off", name: "Lens: back to what the lines tell", run: () => { set({ hand: 0 }); ask(); } },
    { id: "lens-solved", name: "Keep the pinned attempt's lens as a profile", run: () => (state.server.pinned ? useLens({ attempt: state.server.pinned }) : toast("There is no pinned attempt: solve first.", true)) },
    { id: "straighten", name: "Write the straightened plate", run: () => start("lens/straighten", { overscan: find("#overscan").value === "share" ? find("#overscanshare input").value : find("#overscan").value, filter: find("#straightfilter").value, format: find("#straightformat").value }) },
  ];
  return { drawer, draw, remove, actions };
}
