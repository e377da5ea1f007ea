// A table of known coordinates as it is typed: what of it names tracks, said while one types.

/** The lines of a table that hold something, as names; "" for a line of three figures alone. */
export function namesOf(text) {
  const lines = text.split(/\r?\n/).map((line) => line.trim());
  const said = lines.filter((line) => line && !line.startsWith("#"));
  const cells = said.map((line) => line.split(line.includes("\t") ? "\t" : line.includes(";") ? ";" : /[\s,]+/));
  const heads = cells[0]?.map((cell) => cell.trim().toLowerCase()) ?? [];
  const rows = ["x", "y", "z"].every((axis) => heads.includes(axis)) ? cells.slice(1) : cells;
  const at = rows.length < cells.length ? heads.indexOf("name") : 0;
  return rows.map((row) => (row.length <= 3 || at < 0 ? "" : row[at].trim().replace(/^"|"$/g, "")));
}

/** How far a table goes: how many of its points are tracks (by their names), and which are not; "" for none. */
export function surveySentence(text, tracks) {
  const names = namesOf(text);
  if (!names.length) return "";
  const points = `${names.length} point${names.length === 1 ? "" : "s"}`;
  if (names.every((name) => !name)) return `${points} without names: select as many tracks, first made first.`;
  const known = new Set(tracks.map((name) => name.toLowerCase()));
  const missing = names.filter((name) => !known.has(name.toLowerCase()));
  if (!missing.length) return `${points}, all of them tracks.`;
  const some = missing.slice(0, 3).join(", ") + (missing.length > 3 ? " …" : "");
  return `${names.length - missing.length} of ${points} are tracks; not ${some}.`;
}
