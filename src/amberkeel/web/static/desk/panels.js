// The right column and the course: drawn from the state that the server sends.
const find = (selector) => document.querySelector(selector);

/** Make an element with a class and a text. */
export function element(tag, className, text) {
  const made = document.createElement(tag);
  if (className) made.className = className;
  if (text !== undefined) made.textContent = text;
  return made;
}

export function facts(box, rows) {
  box.replaceChildren(...rows.flatMap(([name, value, unit]) => {
    const figure = element("dd", "fig", value);
    if (unit) figure.append(element("span", "unit", unit));
    return [element("dt", "", name), figure];
  }));
}

/** Show the tools of a stage, and the list of tracks where it helps. */
export function showStage(stage) {
  for (const panel of document.querySelectorAll("[data-panel]")) panel.hidden = panel.dataset.panel !== stage;
  for (const stop of document.querySelectorAll(".stop")) stop.classList.toggle("here", stop.dataset.key === stage);
  find("#desk").classList.toggle("masking", stage === "masks");
  find("#desk").classList.toggle("lensing", stage === "lens");
  for (const group of document.querySelectorAll("[data-tools]")) group.hidden = (group.dataset.tools === "lens") !== (stage === "lens");
  find("#listbox").hidden = !["tracks", "solve", "world"].includes(stage);
}

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

export function drawFigures(server) {
  const attempt = server.attempts.find((a) => a.id === server.pinned);
  const box = find("#figures");
  box.replaceChildren();
  for (const link of find("#downloads").children) {
    link.classList.toggle("pointer-events-none", !attempt);
    link.style.opacity = attempt ? 1 : 0.4;
  }
  find("#handoffnote").textContent = attempt ? `Attempt ${attempt.number}, pinned, in the world of this shot's datum.` : "Nothing to hand on yet: solve the shot first.";
  if (!attempt) return;
  const f = attempt.figures;
  const list = element("dl", "facts mt-2");
  facts(list, [
    ["RMS residual", f.rms_px.toFixed(3), "px"],
    ["Check residual", f.check_rms_px.toFixed(3), "px"],
    ["Focal length", `${f.focal_mm.toFixed(2)} ±${Math.max(f.focal_sigma_mm, 0.005).toFixed(2)}`, "mm"],
    ["Tracks used", `${f.tracks_used}`],
    ["Set aside, check", `${f.tracks_excluded}, ${f.tracks_check}`],
  ]);
  box.append(list);
}

const picked = new Set();

/** The ledger: attempts with their figures; one can be pinned, two put side by side. */
export function drawLedger(server, shot, pin) {
  const box = find("#ledger");
  find("#comparehint").textContent = server.attempts.length > 1 ? "· tick two to compare" : "";
  if (!server.attempts.length) box.replaceChildren(element("p", "label", "No attempts yet. Each solve is kept here beside the others."));
  else {
    box.replaceChildren(...server.attempts.map((a) => {
      const card = element("div", `attempt${a.id === server.pinned ? " pinned" : ""}`);
      const tick = element("input");
      tick.type = "checkbox";
      tick.title = "Compare";
      tick.disabled = server.attempts.length < 2;
      tick.checked = picked.has(a.id);
      tick.addEventListener("change", () => {
        if (tick.checked) picked.add(a.id); else picked.delete(a.id);
        const [x, y] = [...picked].sort((m, n) => m - n);
        if (y) picked.clear();
        if (y) location.href = `/shots/${shot}/compare?a=${x}&b=${y}`;
      });
      const name = element("span", "", `Attempt ${a.number}`);
      name.append(element("span", "fig ml-2", a.figures.rms_px.toFixed(3)), element("span", "unit", "px"));
      const button = element("button", `button quiet${a.id === server.pinned ? " on" : ""}`, a.id === server.pinned ? "pinned" : "pin");
      button.disabled = a.id === server.pinned;
      button.addEventListener("click", () => pin(a.id));
      const words = `f ${a.figures.focal_mm.toFixed(2)} mm, ${a.recipe.lens_held ? "profile held" : a.recipe.distortion === "none" ? "no distortion" : "distortion free"}, ${a.recipe.camera_motion}${a.recipe.focal_px ? ", f known" : ""}${a.recipe.shared_with?.length ? `, one lens with ${a.recipe.shared_with.map((n) => n.split(" ")[0]).join(", ")}` : ""}${a.masks ? `, ${a.masks} mask${a.masks > 1 ? "s" : ""}` : ""}${a.stale ? ` · ${a.stale} since` : ""}`;
      card.append(tick, name, button, element("small", "", words));
      return card;
    }));
  }
}

export function drawFindings(server, select) {
  const box = find("#findings");
  if (!server.findings.length) return box.replaceChildren(element("p", "label px-4 pb-3", "Nothing to report yet. Findings stand here once the shot is solved."));
  return box.replaceChildren(...server.findings.map((f) => {
    const row = element("p", `finding${f.fine ? " fine" : ""}`, `${f.text} `);
    if (f.tracks.length) {
      const show = element("button", "", "Select them");
      show.addEventListener("click", () => select(f.tracks));
      row.append(show);
    }
    return row;
  }));
}

export function drawDatum(server, attempt) {
  const d = server.datum ?? {};
  const frames = Object.keys(d.axes?.rotations ?? {});
  const { placed } = server;
  facts(find("#datumfacts"), [
    ["Axes", frames.length ? `from lines on ${frames.join(", ")}` : "first camera"],
    ["Ground", d.ground ? `${d.ground.length} tracks` : frames.length ? "level of the lines" : "not set"],
    ...(d.ground && attempt?.ground_rms != null ? [["Points off the ground", (attempt.ground_rms * (d.scale ? 1000 : 1)).toFixed(d.scale ? 1 : 4), d.scale ? "mm RMS" : "units RMS"]] : []),
    ["Origin", d.origin ? "1 track" : placed ? "as the lines place it" : "not set"],
    ["Scale", d.scale ? `${d.scale.typed} ${d.scale.unit}` : placed ? "measured line" : "not set"],
  ]);
  find("#axesnote").hidden = !(d.axes?.place && !placed);
}
