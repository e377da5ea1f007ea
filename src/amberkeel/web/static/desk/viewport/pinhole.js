// The pinhole of a solved camera on one of its frames.

/** Focal lengths and principal point in pixels on a camera's frame: a zoom changes the former. */
export function pinholeOf(world, camera) {
  const [fx, fy] = world.lens.focal_px;
  const [cx, cy] = world.lens.principal_px ?? [world.image.width / 2, world.image.height / 2];
  const gain = (camera.focal_px ?? fx) / fx;
  return { fx: fx * gain, fy: fy * gain, cx, cy };
}
