// Words that all stages write alike.

/** A count with its noun. */
export const counted = (count, noun) => `${count} ${noun}${count === 1 ? "" : "s"}`;
