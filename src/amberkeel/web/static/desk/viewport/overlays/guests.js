// What the stages draw of their own: a track being placed, lines, boxes.
export const guests = {
  shown: () => true,

  draw(context, state, { guests: all, toScreen, which }) {
    for (const guest of all) if (which === "all" || !guest.dragging) guest.draw(context, state, toScreen);
  },
};
