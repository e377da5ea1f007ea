// The solved points in 3D: which are shown, and their colours by residual, group or sigma.
import * as THREE from "three";
import { INK, ramp } from "../shell/colour.js";

/** Residual at which the ramp ends; and sigma over the scene's reach at which a point is faint. */
const RESIDUAL_PX = 0.08;
const FAINT_SHARE = 0.05;

/** Whether a track's point is shown: not set aside, nor hidden with its group, nor left out of what is looked at. */
export function isShown(point, { only, server, tracks }) {
  if (point.state === "excluded") return false;
  if (only && !only.has(point.id)) return false;
  const row = tracks?.row.get(point.id);
  const group = row === undefined ? "" : tracks.groups[row];
  return !(group && server?.groups?.[group]?.hidden);
}

/** The colour of a point, by what points are coloured by. */
export function colourOf(point, { tracks, server, pointColour }, reach) {
  const own = new THREE.Color(ramp((point.residual_px ?? 0) / RESIDUAL_PX));
  if (pointColour === "group") {
    const row = tracks?.row.get(point.id);
    const group = row === undefined ? "" : tracks.groups[row];
    return new THREE.Color(server?.groups?.[group]?.colour ?? INK.muted);
  }
  if (pointColour === "sigma") {
    const share = point.sigma_along == null ? 1 : Math.min(point.sigma_along / (FAINT_SHARE * reach), 1);
    return new THREE.Color(INK.verdigris).lerp(new THREE.Color(INK.hull), 0.9 * share);
  }
  return own;
}
