// The lens stage: lines and what they tell, the camera's facts, profiles, and the look through the lens.
import { get, post, postForm, toast } from "./api.js";
import { boxesOf, followed } from "./boxdraw.js";
import { LineDraw, LOOKS } from "./linedraw.js";
import { element, facts } from "./panels.js";
import { drawProfileList } from "./profilelist.js";

const find = (selector) => document.querySelector(selector);
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
  const measured = () => (find("#measureline").value && find("#measurelength").value ? { line: find("#measureline").value, length: find("#measurelength").value } : null);

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
    const body = () => ({ lines: state.lens.lines, wanted: wanted(), focal_state: kept?.focal_state, frame: state.frame, quick, grid: state.lens.grid, measured: quick ? null : measured() });
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
      if (find("#linesnap").checked && !line.axis) line = { ...line, points: await snapped(line, k) };
      return send.keep({ [name]: line }, `Move a point of ${name}`);
    },
    keep(lines, label) {
      const now = { ...state.lens.lines };
      for (const [name, line] of Object.entries(lines)) if (line) now[name] = line; else delete now[name];
      set({ lines: now });
      return edit({ lines, label });
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
    set({ lines: kept.lines, chosen: kept.lines[state.lens.chosen] ? state.lens.chosen : null });
    if (kept.wanted.model) {
      find("#linemodel").value = `${kept.wanted.model} ${kept.wanted.model === "division" ? 0 : kept.wanted.radial}`;
      find("#linetangential").checked = Boolean(kept.wanted.tangential);
    }
    fillCamera();
    drawProfiles();
    await ask();
  }

  function fillCamera() {
    const sizes = [...kept.presets.map((p) => [`${p.name} (kept)`, p.width_mm]), ...kept.formats.map((f) => [f.name, f.width_mm])];
    find("#sensorformat").replaceChildren(new Option("its own size", ""), ...sizes.map(([name, width]) => new Option(name, width, false, Math.abs(width - kept.sensor_mm) < 0.005)));
    find("#sensorwidth").value = `${kept.sensor_mm.toFixed(2)} mm`;
    find("#sensorcrop").value = (100 * kept.crop).toFixed(1).replace(/\.0$/, "");
    find("#pixelformat").replaceChildren(...kept.pixel_formats.map((f) => new Option(`${f.name}: ${f.aspect.toFixed(3)}`, f.aspect, false, Math.abs(f.aspect - kept.pixel_aspect) < 0.002)), new Option("another", ""));
    if (![...find("#pixelformat").options].some((o) => o.selected && o.value)) find("#pixelformat").value = "";
    find("#pixelaspect").value = kept.pixel_aspect.toFixed(4).replace(/0+$/, "").replace(/\.$/, "");
    find("#focalstate").value = kept.focal_state;
    find("#focalmm").value = kept.focal_mm ?? "";
    find("#cropnote").textContent = kept.crop < 1 ? `The plate shows ${kept.sensor_width_mm.toFixed(2)} mm of the sensor: a narrower view through the same lens.` : "";
    const box = find("#lensmeta");
    box.replaceChildren();
    if (kept.found) {
      const words = [kept.found.focal_mm && `${kept.found.focal_mm.toFixed(1)} mm`, kept.found.equivalent_mm && `${kept.found.equivalent_mm.toFixed(0)} mm on full frame`, kept.found.sensor_width_mm && `sensor ${kept.found.sensor_width_mm.toFixed(2)} mm`].filter(Boolean);
      if (words.length) {
        const offer = element("button", "button w-full my-1", `Take from the file: ${words.join(", ")}`);
        offer.addEventListener("click", () => {
          if (kept.found.focal_mm) { find("#focalmm").value = kept.found.focal_mm.toFixed(2); find("#focalstate").value = "start"; }
          if (kept.found.sensor_width_mm) find("#sensorwidth").value = `${kept.found.sensor_width_mm.toFixed(2)} mm`;
        });
        box.append(offer);
      }
    }
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
    toast(body.none ? "No profile is in use now." : "In use; the next solve can hold it.");
  });

  function drawList() {
    const box = find("#linelist");
    const names = Object.keys(state.lens.lines).filter((name) => !state.lens.lines[name].box);
    const boxes = boxesOf(state.lens.lines);
    if (!names.length && !boxes.length) return box.replaceChildren(element("p", "label my-1", "No lines yet. Choose Edge, or a direction, and drag along an edge of the set from end to end. Or choose Box and drag its corners onto the corners of something square."));
    return box.replaceChildren(...boxes.map(boxRow), ...names.map((name) => {
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
    }));
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

  /** Figures of the newest fit; a text is written only where it is another. */
  function drawFigures() {
    const { fit } = state.lens;
    if (!fit) return;
    const values = [fit.focal_told ? `${fit.focal_mm.toFixed(2)} ±${fit.focal_sigma_mm.toFixed(2)}` : "not told"];
    for (const [value, sigma] of Object.values(fit.values)) values.push(`${value.toFixed(4)} ±${sigma.toFixed(4)}`);
    if (fit.roll !== undefined) values.push(`${fit.roll.toFixed(2)} ±${fit.angle_sigma.toFixed(2)}`, `${fit.tilt.toFixed(2)} ±${fit.angle_sigma.toFixed(2)}`);
    const boxes = find("#lensfound").querySelectorAll("dd");
    if (boxes.length < values.length) return;
    values.forEach((text, k) => { if (boxes[k].firstChild.data !== text) boxes[k].firstChild.data = text; });
  }

  function drawFound() {
    const { fit, trouble, hand } = state.lens;
    const notes = [...(trouble ? [trouble] : []), ...(fit?.notes ?? [])];
    if (hand) notes.unshift(`k1 is turned by hand: ${hand.toFixed(4)}.`);
    find("#lensnotes").replaceChildren(...notes.map((text) => element("p", "say my-1", text)));
    const rows = [];
    if (fit) {
      rows.push(["Focal length", fit.focal_told ? `${fit.focal_mm.toFixed(2)} ±${fit.focal_sigma_mm.toFixed(2)}` : "not told", fit.focal_told ? "mm" : ""]);
      for (const [name, [value, sigma]] of Object.entries(fit.values)) rows.push([name, `${value.toFixed(4)} ±${sigma.toFixed(4)}`]);
      if (fit.roll !== undefined) {
        rows.push(["Horizon's roll", `${fit.roll.toFixed(2)} ±${fit.angle_sigma.toFixed(2)}`, "°"]);
        rows.push(["View's tilt", `${fit.tilt.toFixed(2)} ±${fit.angle_sigma.toFixed(2)}`, "°"]);
      }
      if (fit.centre) {
        const [[x, y], [sx, sy]] = fit.centre;
        const off = Math.hypot(x / sx, y / sy);
        if (Math.max(sx, sy) < 0.1 * state.width) rows.push(["Optical centre", off > 3 ? `off by ${x.toFixed(0)}, ${y.toFixed(0)}` : "agrees", off > 3 ? "px" : `(±${Math.max(sx, sy).toFixed(0)} px)`]);
      }
    }
    facts(find("#lensfound"), rows);
    find('[data-act="lens-use"]').disabled = !fit || (!fit.focal_told && !Object.keys(fit.values).length);
    const chosen = find("#measureline").value;
    find("#measureline").replaceChildren(new Option("measured line…", ""), ...Object.entries(state.lens.lines).filter(([, l]) => l.axis && (!l.set || l.set.every(Boolean))).map(([name]) => new Option(name, name, false, name === chosen)));
    find("#measure").hidden = fit?.roll === undefined;
    facts(find("#lensplace"), fit?.place ? [["Camera's height", fit.place.xyz[1].toFixed(2), "m"], ["Distance", fit.place.distance.toFixed(2), "m"]] : []);
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
    for (const tool of ["edge", "x", "y", "z", "box"]) find(`[data-act="line-${tool}"]`).classList.toggle("on", state.lens.tool === tool);
    for (const one of ["shot", "straight"]) find(`[data-act="look-${one}"]`).classList.toggle("on", state.lens.look === one);
    if (state.stage !== "lens") return;
    // While a point is dragged the figures change and the list does not: laying it out anew would slow the drag.
    if (drawer.grip?.kind === "point" && drawer.grip.moved) return drawFigures();
    if (!changed || changed.has("lens") || changed.has("frame")) { drawList(); drawFound(); }
    if (!changed || changed.has("server") || changed.has("stage")) refresh().catch((e) => toast(e.message, true));
    if (changed?.has("frame") && !state.playing && state.lens.fit && !state.lens.hand) ask(true);
    look();
  }

  const tool = (name) => set({ tool: state.lens.tool === name ? null : name, look: "shot" });
  const remove = () => {
    const { chosen, lines } = state.lens;
    if (state.stage !== "lens" || !chosen) return false;
    const { box } = lines[chosen] ?? {};
    const gone = box ? Object.keys(lines).filter((n) => lines[n].box === box) : [chosen];
    send.keep(Object.fromEntries(gone.map((n) => [n, null])), `Delete ${box ?? chosen}`);
    set({ chosen: null });
    return Boolean(lines);
  };

  for (const id of ["#linemodel", "#linetangential"]) find(id).addEventListener("change", () => edit({ wanted: wanted(), label: "Ask for another distortion model" }));
  for (const id of ["#measureline", "#measurelength"]) find(id).addEventListener("change", () => ask());
  find("#sensorformat").addEventListener("change", (e) => { if (e.target.value) find("#sensorwidth").value = `${Number(e.target.value).toFixed(2)} mm`; });
  find("#pixelformat").addEventListener("change", (e) => { if (e.target.value) find("#pixelaspect").value = Number(e.target.value).toFixed(4); });
  find("#showgrid").addEventListener("change", (e) => { set({ grid: e.target.checked }); if (!state.lens.hand) ask(); });
  find("#showfloor").addEventListener("change", (e) => set({ floor: e.target.checked }));
  find("#handk1").addEventListener("input", (e) => turn(Number(e.target.value) / 1000));
  find("#handvalue").addEventListener("change", (e) => turn(Number(e.target.value.replace(",", "."))));
  find('#chartform [name="pattern"]').addEventListener("change", (e) => { find("#innerfield").hidden = e.target.value === "loose"; });
  find("#chartform").addEventListener("submit", (e) => {
    e.preventDefault();
    act(async () => { await postForm(url("chart"), new FormData(e.target)); toast("Looking for the grid; it runs beside your work."); });
  });

  const camera = () => edit({
    label: "Change the camera's facts",
    facts: { sensor: find("#sensorwidth").value, crop: Number(find("#sensorcrop").value.replace(",", ".")) / 100, pixel_aspect: Number(find("#pixelaspect").value.replace(",", ".")), focal_state: find("#focalstate").value, focal_mm: find("#focalmm").value },
  });

  const actions = [
    ...BENCHES.map((bench) => ({ id: `lens-${bench}`, name: `Lens: ${{ lines: "drawn lines", camera: "the camera's facts", profiles: "profiles", through: "look through it" }[bench]}`, run: () => set({ bench }) })),
    { id: "line-edge", name: "Draw a straight edge", keys: "Shift E", run: () => tool("edge") },
    { id: "line-x", name: "Draw a line along X", keys: "Shift X", run: () => tool("x") },
    { id: "line-y", name: "Draw a line along Y", keys: "Shift Y", run: () => tool("y") },
    { id: "line-z", name: "Draw a line along Z", keys: "Shift Z", run: () => tool("z") },
    { id: "line-box", name: "Set a box onto the picture by its corners", keys: "Shift B", run: () => tool("box") },
    { id: "lens-use", name: "Use the lens that the lines tell", run: () => useLens({}) },
    { id: "lens-camera", name: "Keep the camera's facts", run: camera },
    { id: "lens-preset", name: "Keep the sensor's size as a preset", run: () => act(async () => { await post(url("preset"), { name: find("#presetname").value, width: find("#sensorwidth").value }); seen = ""; await refresh(); toast("Kept."); }) },
    { id: "look-shot", name: "Lens: see the plate as shot", run: () => set({ look: "shot" }) },
    { id: "look-straight", name: "Lens: see the plate straightened", run: () => (shown() ? set({ look: "straight", tool: null }) : toast("There is no lens yet: draw two lines or turn k1 by hand.", true)) },
    { id: "hand-use", name: "Lens: use k1 as turned by hand", run: () => useLens({ hand: Number(find("#handvalue").value) }) },
    { id: "hand-off", name: "Lens: back to what the lines tell", run: () => { set({ hand: 0 }); ask(); } },
    { id: "straighten", name: "Write the straightened plate", run: () => start("lens/straighten", { overscan: find("#overscan").value, filter: find("#straightfilter").value, format: find("#straightformat").value }) },
  ];
  return { drawer, draw, remove, actions };
}
