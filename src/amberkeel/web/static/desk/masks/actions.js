// What can be done on the masks stage, by name.
import { post, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { pointsAt } from "./shapes.js";

const TOOLS = {
  shape: "choose and edit shapes",
  polygon: "draw with corners",
  curve: "draw a smooth curve",
  rectangle: "drag a rectangle",
  ellipse: "drag an ellipse",
  is: "click spots that are the subject",
  isnot: "click spots that are not",
};

export function maskActions(stage) {
  const { desk, editor } = stage;
  const { state, store } = desk;
  const tool = ([name, words]) => ({
    id: `mask-${name}`,
    name: `Masks: ${words}`,
    run: () => {
      editor.cancel();
      desk.goStage("masks");
      store.set({ maskTool: name });
    },
  });
  const named = (id, name, run, keys) => ({ id: `mask-${id}`, name: `Masks: ${name}`, run, keys });
  const ofMask = (work) => () => stage.withMask(work);
  const key = (m) =>
    m.kind === "shape" && editor.setKey(m, pointsAt(m, state.frame), `Key ${m.name} at ${state.frame}`);
  const range = () => (state.range ? { first: state.range[0], last: state.range[1] } : {});
  const finish = () => (state.stage === "tracks" ? desk.stages.tracks.guest.finish() : editor.finish());
  return [
    ...Object.entries(TOOLS).map(tool),
    named("propose", "what moves here?", () => desk.start("propose", {})),
    named(
      "on",
      "follow the subject forwards",
      ofMask((m) => follow(desk, m, 1)),
    ),
    named(
      "back",
      "follow the subject backwards",
      ofMask((m) => follow(desk, m, -1)),
    ),
    named(
      "both",
      "follow the subject both ways",
      ofMask((m) => followBoth(desk, m)),
    ),
    named(
      "learn",
      "this subject, on all frames or the chosen ones",
      ofMask((m) => desk.start(`masks/${m.id}/learn`, range())),
    ),
    named("key", "set a key here", ofMask(key), "K"),
    named("unkey", "remove the key here", () => editor.removeKey()),
    named("delete", "delete the chosen mask", () => stage.delete()),
    named(
      "convert",
      "make a matte of a shape, or a shape of a matte",
      ofMask((m) => convert(desk, m)),
    ),
    named(
      "copy",
      "copy to another shot",
      ofMask((m) => copy(desk, m)),
    ),
    named("leak", "go to the next frame on which something leaves its mask", () => stage.nextLeak(), "N"),
    named("cut", "cut the covered frames out of the tracks", () => desk.send("cut", {})),
    named("finish", "close the shape being drawn", finish, "Enter"),
  ];
}

/** Carry a shape along with its subject, to the end of the chosen frames. */
function follow(desk, mask, way) {
  const { state } = desk;
  const [low, high] = state.range ?? [mask.first ?? state.first, mask.last ?? state.last];
  const model = find("#carrymodel").value;
  return desk.start(`masks/${mask.id}/carry`, { start: state.frame, stop: way > 0 ? high : low, model });
}

/** Carry a shape over all of the chosen frames: a subject in one go, one piece one way after the other. */
async function followBoth(desk, mask) {
  const { state } = desk;
  const [low, high] = state.range ?? [mask.first ?? state.first, mask.last ?? state.last];
  const model = find("#carrymodel").value;
  if (model === "the subject in it") return desk.start(`masks/${mask.id}/carry`, { start: low, stop: high, model });
  await follow(desk, mask, 1);
  return follow(desk, mask, -1);
}

function convert(desk, mask) {
  return desk.act(async () => {
    const answer = await desk.answered(await post(desk.at(`masks/${mask.id}/convert`)));
    desk.store.set({ mask: answer.mask });
  });
}

function copy(desk, mask) {
  const to = find("#copyto").value;
  return desk.act(async () => {
    await post(desk.at(`masks/${mask.id}/copy`), { shot: to });
    toast(`Copied to ${to}.`);
  });
}
