// Masks, with the handles of the one at hand.
import { drawMasks } from "../../masks/draw.js";

export const masks = {
  shown: ({ layers, stage }, mode) => mode.masks && (layers.masks || stage === "masks"),

  draw(context, state, { masks: editor, toScreen, scale, redraw, which }) {
    drawMasks(context, state, editor, toScreen, scale, redraw, which);
  },
};
