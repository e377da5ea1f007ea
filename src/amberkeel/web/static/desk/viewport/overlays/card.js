// The checker card on the ground.

export const card = {
  shown: ({ layers }, mode) => layers.card && !mode.blind && !mode.pointing,

  draw(context, state, { toScreen }) {
    const outlines = state.attempt?.card?.[state.frame - state.first];
    if (!outlines) return;
    for (const outline of outlines) {
      context.beginPath();
      for (const [x, y] of outline) context.lineTo(...toScreen(x, y));
      context.closePath();
      context.fillStyle = "#f2a33a5c";
      context.fill();
      context.strokeStyle = "#f2a33acc";
      context.lineWidth = 1;
      context.stroke();
    }
  },
};
