// The pinned attempt's figures.
import { checked, element, facts, find } from "../shell/dom.js";

/** Draw the figures of the pinned attempt, or nothing. */
export function drawFigures(server) {
  const attempt = server.attempts.find((a) => a.id === server.pinned);
  const box = find("#figures");
  box.replaceChildren();
  if (!attempt) return;
  const f = attempt.figures;
  const folds = f.folds && [
    f.folds.count >= f.tracks_used ? "Each left out" : `In ${f.folds.count} folds`,
    f.folds.rms_px.toFixed(3),
    `px, ${f.folds.used_rms_px.toFixed(3)} when used`,
  ];
  const list = element("dl", "facts mt-2");
  facts(list, [
    ["RMS residual", f.rms_px.toFixed(3), "px"],
    ["Check residual", ...checked(f.check_rms_px)],
    ...(folds ? [folds] : []),
    f.measuring
      ? ["Focal length", `${f.focal_mm.toFixed(2)} ±…`, "mm, its sigma is worked out"]
      : ["Focal length", `${f.focal_mm.toFixed(2)}${spread(f.focal_sigma_mm)}`, f.focal_sigma_mm ? "mm" : "mm, held"],
    ["Tracks used", `${f.tracks_used}`],
    ["Set aside, check", `${f.tracks_excluded}, ${f.tracks_check}`],
  ]);
  box.append(list);
}

/** One sigma to two digits after the point; nothing where the value was held. */
const spread = (sigma) => (sigma ? ` ±${Math.max(sigma, 0.005).toFixed(2)}` : "");
