// The fields of the chosen mask.
import { postForm, toast } from "../shell/api.js";
import { find } from "../shell/dom.js";

const number = (id) => (find(id).value.trim() === "" ? null : Number(find(id).value));

/** What each field changes of a mask, given its text. */
const FIELDS = {
  "#maskname": (text) => ({ name: text.trim() }),
  "#maskpurpose": (text) => ({ purpose: text }),
  "#maskcolour": (text) => ({ colour: text }),
  "#maskmargin": () => ({ margin: number("#maskmargin") ?? 0 }),
  "#maskfirst": () => ({ first: number("#maskfirst") }),
  "#masklast": () => ({ last: number("#masklast") }),
};

export function listenToFields(stage) {
  const { desk } = stage;
  for (const [id, values] of Object.entries(FIELDS)) {
    const change = (e) => stage.withMask((m) => stage.change(m, values(e.target.value), `Change ${m.name}`));
    find(id).addEventListener("change", change);
  }
  for (const id of ["#cleangrow", "#cleanspeck", "#cleanholes"]) {
    find(id).addEventListener("change", () =>
      stage.withMask(async (m) => {
        await stage.change(m, { cleaning: cleaning() }, `Clean ${m.name}`);
        desk.act(() => stage.spots.learn());
      }),
    );
  }
  find("#bringform").addEventListener("submit", (e) => {
    e.preventDefault();
    desk.act(async () => {
      await postForm(desk.at("mattes"), new FormData(e.target));
      toast("The matte is coming in.");
    });
  });
}

function cleaning() {
  return {
    grow: number("#cleangrow") ?? 0,
    speck_px: number("#cleanspeck") ?? 0,
    fill_holes: find("#cleanholes").checked,
  };
}
