// The overlays over the plate, from the lowest to the topmost. An overlay is a file here and a line in `OVERLAYS`.
//
// Each has `shown(state, mode)` and `draw(context, state, view)`. `view` has toScreen(x, y) from plate pixels to the
// screen, scale, width, height and what `modeOf` tells.
import { bodies } from "./bodies.js";
import { card } from "./card.js";
import { coverage } from "./coverage.js";
import { flagged } from "./flagged.js";
import { guests } from "./guests.js";
import { key } from "./key.js";
import { masks } from "./masks.js";
import { measured } from "./measured.js";
import { named } from "./named.js";
import { planks } from "./planks.js";
import { points } from "./points.js";
import { preview } from "./preview.js";
import { sightings } from "./sightings.js";
import { slip } from "./slip.js";
import { sticks } from "./sticks.js";
import { tails } from "./tails.js";
import { tied } from "./tied.js";
import { tracks } from "./tracks.js";

export const OVERLAYS = [
  coverage,
  masks,
  slip,
  card,
  tails,
  tracks,
  sticks,
  points,
  flagged,
  sightings,
  measured,
  planks,
  named,
  tied,
  bodies,
  guests,
  preview,
  key,
];

/** What the stage and its bench ask of the overlays. */
export function modeOf(state) {
  const judging = state.stage !== "masks";
  const placing = state.stage === "tracks" && state.bench === "place";
  const choosing = state.stage === "tracks" && state.bench === "choose";
  // The solve stays out of it while a track is placed by hand: the eye must not follow where the solve wants the track.
  const blind = placing && !state.showSolved;
  const { stage, world } = state;
  const pointing = stage === "world" && (world.bench !== "datum" || Boolean(world.tool));
  return {
    judging,
    placing,
    choosing,
    blind,
    pointing,
    faint: !judging || choosing || placing || pointing || stage === "ties",
  };
}
