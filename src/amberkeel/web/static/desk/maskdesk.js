// The masks stage at work: what its buttons, fields, pointer and keys do.
import { get, post, postForm, toast } from "./api.js";
import { MaskEditor } from "./maskedit.js";
import { drawMaskFields, drawMaskList, drawMaskNotes, drawProposals } from "./maskpanel.js";
import { pointsAt } from "./shapes.js";

const find = (selector) => document.querySelector(selector);
const number = (id) => (find(id).value.trim() === "" ? null : Number(find(id).value));
const TOOLS = ["shape", "polygon", "curve", "rectangle", "ellipse", "is", "isnot"];

/** Wire the stage up. `desk` has store, viewport, shot, act, take and edit. */
export function setUpMasks(desk) {
  const { store, viewport, shot, act, take } = desk;
  const { state } = store;
  const at = (path) => `/shots/${shot}/${path}`;
  const revision = () => state.server.revision;
  let under = null;
  let trying = 0;
  let looking = 0;
  let soon = 0;
  let resting = 0;

  const said = async (answer) => { await take(answer); return answer; };
  const change = (mask, values, label) => act(async () => said(await post(at(`masks/${mask.id}`), { values, label, revision: revision() })));
  const chosen = () => state.masks?.masks.find((m) => m.id === state.mask);

  const editor = new MaskEditor(store, viewport, {
    add: (points) => act(async () => {
      const answer = await said(await post(at("masks"), { points, frame: state.frame, revision: revision() }));
      store.set({ mask: answer.mask, maskTool: "shape" });
    }),
    change,
    spot: (alter) => act(async () => {
      let mask = chosen();
      if (mask?.kind !== "matte" || mask.source !== "from samples") {
        const answer = await said(await post(at("masks"), { revision: revision() }));
        store.set({ mask: answer.mask });
        mask = chosen();
      }
      const samples = alter(mask.samples);
      mask.samples = samples;
      viewport.redraw();
      await said(await post(at(`masks/${mask.id}`), { values: { samples }, label: `Sample ${mask.name}`, revision: revision() }));
      clearTimeout(soon);
      if (find("#trylive").checked) soon = setTimeout(() => tryNow().catch((e) => toast(e.message, true)), 120);
    }),
  });

  /** Learn from the spots and show the matte of this frame. */
  async function tryNow() {
    const mask = chosen();
    if (!mask?.samples.some((s) => s[3]) || !mask.samples.some((s) => !s[3])) {
      find("#tried").textContent = "Click spots of both kinds.";
      return;
    }
    const mine = (trying += 1);
    find("#tried").textContent = "Learning…";
    const began = performance.now();
    const found = await post(at(`masks/${mask.id}/try`), { frame: state.frame });
    if (mine !== trying) return;
    editor.tried = found;
    find("#tried").textContent = `Frame ${found.frame}: ${(100 * found.share).toFixed(1)} % in ${((performance.now() - began) / 1000).toFixed(1)} s`;
    viewport.redraw();
  }

  /** A frame on which spots may be clicked is looked at beforehand: the answer to the first click then comes sooner. */
  store.on((changed) => {
    if (!["frame", "maskTool", "stage"].some((k) => changed.has(k))) return;
    clearTimeout(resting);
    if (state.stage === "masks" && ["is", "isnot"].includes(state.maskTool)) resting = setTimeout(() => post(at("look"), { frame: state.frame }).catch(() => null), 250);
  });

  async function refresh() {
    const masks = await get(at("masks.json"));
    const known = masks.masks.some((m) => m.id === state.mask);
    editor.tried = null;
    under = null;
    store.set({ masks, mask: known ? state.mask : masks.masks.at(-1)?.id ?? null });
    draw();
    if (masks.changed) lookUnder();
  }

  /** Ask which tracks run under masks now; it takes a moment and nothing waits for it. */
  async function lookUnder() {
    const mine = (looking += 1);
    const found = await get(at("affected.json")).catch(() => null);
    if (mine !== looking) return;
    under = found;
    drawMaskNotes(state, under);
  }

  function draw() {
    drawMaskList(state, { choose: (id) => store.set({ mask: id }), toggle: (m) => change(m, { on: !m.on }, `Switch ${m.name} ${m.on ? "off" : "on"}`) });
    drawMaskFields(state);
    drawProposals(state, {
      show: (p) => { store.set({ proposal: p.id, ...(p.frames.includes(state.frame) ? {} : { frame: p.frames[Math.floor(p.frames.length / 2)] }) }); },
      select: (p) => { store.set({ proposal: p.id, selection: new Set(p.tracks) }); desk.goStage("tracks"); },
      mask: (p) => decide(p, "mask"),
      dismiss: (p) => decide(p, "dismissed"),
    });
    drawMaskNotes(state, under);
    for (const tool of TOOLS) find(`[data-act="mask-${tool}"]`).classList.toggle("on", state.maskTool === tool);
    if (state.stage === "masks") viewport.canvas.style.cursor = state.maskTool !== "shape" ? "crosshair" : "";
  }

  const decide = (p, to) => act(async () => {
    const answer = await said(await post(at(`proposals/${p.id}`), { to }));
    if (answer.mask) store.set({ mask: answer.mask });
  });
  const start = (path, body) => act(async () => { await post(at(path), body); toast("Started; it runs beside your work."); });
  const withMask = (work) => () => { const mask = chosen(); if (mask) return work(mask); return toast("Choose a mask first.", true); };

  const follow = (way) => withMask((mask) => {
    const [low, high] = state.range ?? [mask.first ?? state.first, mask.last ?? state.last];
    start(`masks/${mask.id}/carry`, { start: state.frame, stop: way > 0 ? high : low, model: find("#carrymodel").value });
  });

  const fields = {
    "#maskname": (v) => ({ name: v.trim() }), "#maskpurpose": (v) => ({ purpose: v }), "#maskcolour": (v) => ({ colour: v }),
    "#maskmargin": () => ({ margin: number("#maskmargin") ?? 0 }), "#maskfirst": () => ({ first: number("#maskfirst") }), "#masklast": () => ({ last: number("#masklast") }),
  };
  for (const [id, values] of Object.entries(fields)) find(id).addEventListener("change", (e) => withMask((m) => change(m, values(e.target.value), `Change ${m.name}`))());
  for (const id of ["#cleangrow", "#cleanspeck", "#cleanholes"]) {
    find(id).addEventListener("change", withMask(async (m) => {
      await change(m, { cleaning: { grow: number("#cleangrow") ?? 0, speck_px: number("#cleanspeck") ?? 0, fill_holes: find("#cleanholes").checked } }, `Clean ${m.name}`);
      act(tryNow);
    }));
  }
  find("#bringform").addEventListener("submit", (e) => {
    e.preventDefault();
    act(async () => { await postForm(at("mattes"), new FormData(e.target)); toast("The matte is coming in."); });
  });
  viewport.canvas.addEventListener("dblclick", () => editor.active && editor.finish());

  const tool = (name, words, keys) => ({ id: `mask-${name}`, name: `Masks: ${words}`, keys, run: () => { editor.cancel(); if (state.stage !== "masks") desk.goStage("masks"); store.set({ maskTool: name }); } });
  const actions = [
    tool("shape", "choose and edit shapes"), tool("polygon", "draw with corners"), tool("curve", "draw a smooth curve"),
    tool("rectangle", "drag a rectangle"), tool("ellipse", "drag an ellipse"), tool("is", "click spots that are the subject"), tool("isnot", "click spots that are not"),
    { id: "mask-propose", name: "Masks: what moves here?", run: () => start("propose", {}) },
    { id: "mask-on", name: "Masks: follow the subject forwards", run: follow(1) },
    { id: "mask-back", name: "Masks: follow the subject backwards", run: follow(-1) },
    { id: "mask-learn", name: "Masks: learn the matte over the chosen frames", run: withMask((m) => start(`masks/${m.id}/learn`, state.range ? { first: state.range[0], last: state.range[1] } : {})) },
    { id: "mask-key", name: "Masks: set a key here", keys: "K", run: withMask((m) => m.kind === "shape" && editor.setKey(m, pointsAt(m, state.frame), `Key ${m.name} at ${state.frame}`)) },
    { id: "mask-unkey", name: "Masks: remove the key here", run: () => editor.removeKey() },
    { id: "mask-delete", name: "Masks: delete the chosen mask", run: withMask((m) => act(async () => said(await post(at(`masks/${m.id}/delete`), { revision: revision() })))) },
    { id: "mask-convert", name: "Masks: make a matte of a shape, or a shape of a matte", run: withMask((m) => act(async () => { const answer = await said(await post(at(`masks/${m.id}/convert`))); store.set({ mask: answer.mask }); })) },
    { id: "mask-copy", name: "Masks: copy to another shot", run: withMask((m) => act(async () => { await post(at(`masks/${m.id}/copy`), { shot: find("#copyto").value }); toast(`Copied to ${find("#copyto").value}.`); })) },
    { id: "mask-cut", name: "Masks: cut the covered frames out of the tracks", run: () => act(async () => { const answer = await said(await post(at("cut"), { revision: revision() })); toast(answer.said); }) },
    { id: "mask-finish", name: "Masks: close the shape being drawn", keys: "Enter", run: () => (state.stage === "tracks" ? desk.finish?.() : editor.finish()) },
  ];
  return { actions, editor, refresh, draw };
}
