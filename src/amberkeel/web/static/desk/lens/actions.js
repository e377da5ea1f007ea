// What can be done on the lens stage, by name.
import { post, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";
import { BENCHES } from "./benches.js";
import { cameraFacts } from "./camera.js";

const TOOLS = [
  ["edge", "Draw a straight edge", "E"],
  ["x", "Draw a line along X", "X"],
  ["y", "Draw a line along Y", "Y"],
  ["z", "Draw a line along Z", "Z"],
  ["box", "Set a box onto the picture by its corners", "B"],
  ["origin", "Put the world's origin onto the picture", "O"],
];

export function lensActions(stage) {
  const tool = (name) => {
    stage.drawer.first = null;
    stage.set({ tool: stage.lens.tool === name ? null : name, look: "shot" });
  };
  const grid = () => {
    stage.set({ grid: !stage.lens.grid });
    if (!stage.lens.hand) stage.fit.ask();
  };
  const byHand = () => stage.use({ hand: Number(find("#handvalue").value) });
  const keep = () => stage.edit({ label: "Change the camera's facts", facts: cameraFacts() });
  return [
    ...Object.entries(BENCHES).map(([bench, words]) => ({
      id: `lens-${bench}`,
      name: `Lens: ${words}`,
      run: () => stage.set({ bench }),
    })),
    ...TOOLS.map(([id, name, key]) => ({ id: `line-${id}`, name, keys: `Shift ${key}`, run: () => tool(id) })),
    { id: "lens-use", name: "Use the lens that the lines tell", run: () => stage.use({}) },
    { id: "camera-keep", name: "Keep the camera's facts", run: keep },
    { id: "lens-preset", name: "Keep the sensor's size as a preset", run: () => preset(stage) },
    { id: "look-lines", name: "Lens: show or hide lines", run: () => stage.set({ shown: !stage.lens.shown }) },
    {
      id: "look-floor",
      name: "Lens: show or hide floor and horizon",
      run: () => stage.set({ floor: !stage.lens.floor }),
    },
    { id: "look-grid", name: "Lens: show or hide the grid that the lens bends", keys: "Shift G", run: grid },
    {
      id: "look-straight",
      name: "Lens: the plate straightened, or as shot",
      keys: "Shift S",
      run: () => stage.look.toggle(),
    },
    { id: "hand-use", name: "Lens: use k1 as turned by hand", run: byHand },
    {
      id: "hand-off",
      name: "Lens: back to what the lines tell",
      run: () => {
        stage.set({ hand: 0 });
        stage.fit.ask();
      },
    },
    {
      id: "lens-bring",
      name: "Bring in a lens profile or an ST map",
      run: () => document.querySelector("#lensfile").click(),
    },
    { id: "lens-solved", name: "Keep the pinned attempt's lens as a profile", run: () => stage.useSolved() },
    { id: "straighten", name: "Write the straightened plate", run: () => straighten(stage) },
  ];
}

function preset(stage) {
  return stage.desk.act(async () => {
    await post(stage.at("preset"), { name: find("#presetname").value, width: find("#sensorwidth").value });
    await stage.reload();
    toast("Kept.");
  });
}

function straighten(stage) {
  const chosen = find("#overscan").value;
  const overscan = chosen === "share" ? find("#overscanshare input").value : chosen;
  const [filter, format] = ["#straightfilter", "#straightformat"].map((id) => find(id).value);
  const upright = find("#upright").checked && !find("#uprightfield").hidden;
  return stage.desk.start("lens/straighten", { overscan, filter, format, upright });
}
