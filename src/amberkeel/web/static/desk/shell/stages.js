// The stages' scripts by name: a stage is a class in its folder and a line here.
//
// A stage may have: `actions` for the palette, `guest` that the pointer on the plate goes to first, `draw(changed)`,
// `changed(keys)` at every change of the state, `renew(server, before)` to fetch what a new state of the server brings,
// `settle(server, before)` once that is there, and `remove()` for the Delete key.
import { HandoffStage } from "../handoff/stage.js";
import { LensStage } from "../lens/stage.js";
import { MasksStage } from "../masks/stage.js";
import { PlateStage } from "../plate/stage.js";
import { SolveStage } from "../solve/stage.js";
import { TiesStage } from "../ties/stage.js";
import { TracksStage } from "../tracks/stage.js";
import { WorldStage } from "../world/stage.js";

export const STAGES = {
  masks: MasksStage,
  tracks: TracksStage,
  lens: LensStage,
  plate: PlateStage,
  solve: SolveStage,
  world: WorldStage,
  ties: TiesStage,
  handoff: HandoffStage,
};
