// The benches of the lens stage, and what each is for.
export const BENCHES = {
  lines: "drawn lines",
  camera: "the camera's facts",
  profiles: "profiles",
  through: "look through it",
};
