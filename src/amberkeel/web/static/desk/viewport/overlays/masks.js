// Masks, with the handles of the one at hand.
import { drawMasks } from "../../masks/draw.js";

export const masks = {
  shown: ({ layers, stage }, mode) => mode.masks && (layers.masks || stage === "masks"),

  draw(context, state, { masks: editor, place, scale, redraw, which }) {
    drawMasks(context, state, editor, place, scale, redraw, which);
  },
};
