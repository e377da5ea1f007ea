// What the stages draw of their own: a track being placed, lines, boxes.
export const guests = {
  shown: () => true,

  draw(context, state, { guests: all, toScreen }) {
    for (const guest of all) guest.draw(context, state, toScreen);
  },
};
