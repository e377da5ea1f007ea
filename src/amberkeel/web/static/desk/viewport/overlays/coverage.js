// How many live tracks lie in each part of the picture.
import { drawCoverage } from "../../tracks/coverage.js";

export const coverage = {
  shown: ({ layers }) => layers.coverage,

  draw(context, state, { toScreen }) {
    drawCoverage(context, state, toScreen);
  },
};
