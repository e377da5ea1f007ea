// The desk's state at the start: everything that is drawn is a function of it.
export function firstState({ first, last, fps, width, height, stage }) {
  const [up, down] = fps.split("/").map(Number);
  return {
    first: Number(first), last: Number(last), fps: up / (down || 1), width: Number(width), height: Number(height), aspect: 1,
    frame: Number(first), range: null, playing: false, stage, tool: "pick", view: "plate", held: false, floor: 8,
    layers: { tracks: true, tails: true, sticks: true, points: false, card: true, masks: false, coverage: false },
    exaggeration: 20, selection: new Set(), tracks: null, attempt: null, server: null, preview: null, hasGround: false,
    // Tracks.
    bench: "find", samples: new Map(), flagged: null, sightings: null, sightLength: 12, taken: new Set(), copy: null,
    stack: [], split: 0.5, images: "plate", showSolved: false,
    // Lens.
    lens: {
      lines: {}, origin: null, measured: null, fit: null, trouble: "", tool: null, chosen: null, bench: "lines",
      shown: true, look: "shot", grid: false, floor: true, hand: 0,
    },
    straight: null,
    // Masks.
    masks: null, mask: null, maskTool: "shape", proposal: null,
  };
}
