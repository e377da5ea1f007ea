// The casebook: findings, with the tracks that show them.
import { element, find } from "../shell/dom.js";

/** Draw the findings; `select(ids)` is called for the tracks of one. */
export function drawFindings(server, select) {
  const box = find("#findings");
  if (!server.findings.length)
    return box.replaceChildren(
      element("p", "label px-4 pb-3", "Nothing to report yet. Findings stand here once the shot is solved."),
    );
  return box.replaceChildren(
    ...server.findings.map((f) => {
      const row = element("p", `finding${f.fine ? " fine" : ""}`, `${f.text} `);
      if (f.tracks.length) {
        const show = element("button", "", "Select them");
        show.addEventListener("click", () => select(f.tracks));
        row.append(show);
      }
      return row;
    }),
  );
}
