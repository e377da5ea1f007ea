// Sightings to choose from.
import { drawSightings } from "../../tracks/sightings.js";

export const sightings = {
  shown: (state, mode) => mode.choosing,

  draw(context, state, { toScreen }) {
    drawSightings(context, state, toScreen);
  },
};
