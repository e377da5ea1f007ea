// Drawing through the plate's lens: shaders that bend what stands in the scene as the lens bends it.
import * as THREE from "three";
import { pinholeOf } from "./pinhole.js";

/** How far beyond the picture's corner the lens's polynomial is trusted, over the corner's radius. */
const TRUSTED = 1.25;

/** Texels along a side of the map of what the light sees. */
export const SHADOW_SIDE = 1024;

/** By which share of its depth something must be nearer to hide a surface from the frame that lends its picture. */
const OCCLUDED = 0.012;

/** Order of the coefficients, as the server counts them. */
const COEFFICIENTS = 17;

/** How the lens bends a point before the camera; `coefficient` in the server's order. */
const BENT = `
vec2 bent(vec2 n) {
  if (coefficient[5] != 0.0) {
    float root = max(1.0 - 4.0 * coefficient[5] * dot(n, n), 0.0);
    return n * 2.0 / (1.0 + sqrt(root));
  }
  float c = cos(coefficient[6]), s = sin(coefficient[6]);
  vec2 u = vec2(c * n.x + s * n.y, c * n.y - s * n.x);
  float xx = u.x * u.x, yy = u.y * u.y, r2 = xx + yy;
  float gain = 1.0 + r2 * (coefficient[0] + r2 * (coefficient[1] + r2 * coefficient[2]));
  float p = u.x * (gain + coefficient[7] * xx + coefficient[8] * yy + coefficient[9] * xx * xx
    + coefficient[10] * xx * yy + coefficient[11] * yy * yy) + 2.0 * coefficient[3] * u.x * u.y
    + coefficient[4] * (r2 + 2.0 * xx);
  float q = u.y * (gain + coefficient[12] * xx + coefficient[13] * yy + coefficient[14] * xx * xx
    + coefficient[15] * xx * yy + coefficient[16] * yy * yy) + coefficient[3] * (r2 + 2.0 * yy)
    + 2.0 * coefficient[4] * u.x * u.y;
  return vec2(c * p - s * q, s * p + c * q);
}`;

const VERTEX = `
uniform mat3 cameraFromWorld;
uniform vec3 eye;
uniform vec4 pinhole;
uniform float coefficient[${COEFFICIENTS}];
uniform vec4 screen;
uniform vec2 range;
uniform float limit;
uniform float nearer;
varying vec3 worldNormal;
varying vec3 worldAt;
varying vec2 at;

${BENT}
void main() {
  at = uv;
  #ifdef USE_INSTANCING
    vec4 placed = modelMatrix * instanceMatrix * vec4(position, 1.0);
  #else
    vec4 placed = modelMatrix * vec4(position, 1.0);
  #endif
  worldNormal = mat3(modelMatrix) * normal;
  worldAt = placed.xyz;
  vec3 q = cameraFromWorld * (placed.xyz - eye);
  float a = (range.y + range.x) / (range.y - range.x), b = -2.0 * range.y * range.x / (range.y - range.x);
  float depth = a * q.z + b - nearer * q.z;
  vec2 flat2 = q.xy;
  if (q.z > range.x) {
    vec2 n = q.xy / q.z;
    float r2 = dot(n, n);
    float share = r2 > limit ? sqrt(limit / r2) : 1.0;
    flat2 = bent(n * share) / share * q.z;
  }
  vec2 px = pinhole.xy * flat2 + pinhole.zw * q.z;
  gl_Position = vec4(screen.xz * px + screen.yw * q.z, depth, q.z);
}`;

const FRAGMENT = `
uniform vec3 colour;
uniform vec3 other;
uniform float opacity;
uniform float squares;
uniform vec3 light;
uniform float shading;
uniform sampler2D picture;
uniform float pictured;
uniform float catching;
uniform sampler2D lightDepth;
uniform mat4 lightFromWorld;
uniform sampler2D masked;
uniform float behind;
uniform vec4 screen;
uniform vec4 plate;
uniform float coefficient[${COEFFICIENTS}];
uniform float limit;
uniform float lending;
uniform mat3 lentFromWorld;
uniform vec3 lentEye;
uniform vec4 lentPinhole;
uniform vec2 lentRange;
uniform sampler2D lentPicture;
uniform sampler2D lentDepth;
varying vec3 worldNormal;
varying vec3 worldAt;
varying vec2 at;

// The share of the light that the test objects keep from here.
float shade() {
  vec3 q = (lightFromWorld * vec4(worldAt, 1.0)).xyz * 0.5 + 0.5;
  if (q.x < 0.0 || q.x > 1.0 || q.y < 0.0 || q.y > 1.0) return 0.0;
  float hidden = 0.0, deep = min(q.z, 1.0) - 0.0015;
  for (int j = -1; j <= 1; j++)
    for (int i = -1; i <= 1; i++)
      hidden += texture2D(lightDepth, q.xy + vec2(i, j) * ${(1.2 / SHADOW_SIDE).toFixed(6)}).r < deep ? 1.0 : 0.0;
  return hidden / 9.0;
}

// How much of what stands here what is masked lets be seen.
float uncovered() {
  if (behind < 0.5) return 1.0;
  vec2 ndc = gl_FragCoord.xy / plate.zw * 2.0 - 1.0;
  vec2 px = vec2((ndc.x - screen.y) / screen.x, (ndc.y - screen.w) / screen.z);
  return 1.0 - texture2D(masked, vec2(px.x / plate.x, 1.0 - px.y / plate.y)).r;
}

${BENT}

// What the lending frame sees here; nothing where something stands before it, or outside of its picture.
vec4 lent() {
  vec3 q = lentFromWorld * (worldAt - lentEye);
  if (q.z <= lentRange.x) return vec4(0.0);
  vec2 n = q.xy / q.z;
  if (dot(n, n) > limit) return vec4(0.0);
  vec2 px = (lentPinhole.xy * bent(n) + lentPinhole.zw) / plate.xy;
  if (px.x < 0.0 || px.y < 0.0 || px.x > 1.0 || px.y > 1.0) return vec4(0.0);
  px.y = 1.0 - px.y;
  float a = (lentRange.y + lentRange.x) / (lentRange.y - lentRange.x);
  float b = -2.0 * lentRange.y * lentRange.x / (lentRange.y - lentRange.x);
  float nearest = b / (2.0 * texture2D(lentDepth, px).r - 1.0 - a);
  if (q.z > nearest * ${(1 + OCCLUDED).toFixed(3)}) return vec4(0.0);
  return vec4(texture2D(lentPicture, px).rgb, 1.0);
}

void main() {
  vec3 own = colour;
  if (pictured > 0.5) {
    vec4 seen = lending > 0.5 ? lent() : texture2D(picture, at);
    seen.a *= uncovered();
    if (seen.a < 0.02) discard;
    gl_FragColor = vec4(seen.rgb, seen.a * opacity);
    return;
  }
  if (catching > 0.5) {
    float dark = shade() * uncovered();
    if (dark < 0.05) discard;
    gl_FragColor = vec4(colour, opacity * dark);
    return;
  }
  if (squares > 0.0) {
    vec2 cell = floor(at * squares);
    own = mod(cell.x + cell.y, 2.0) < 0.5 ? colour : other;
  }
  float lit = 1.0;
  if (shading > 0.0) {
    vec3 n = normalize(worldNormal);
    if (!gl_FrontFacing) n = -n;
    lit = mix(1.0, 0.34 + 0.66 * max(dot(n, light), 0.0) + 0.12 * max(n.y, 0.0), shading);
  }
  gl_FragColor = vec4(own * lit, opacity);
}`;

/** Uniforms that all materials of a view share: the camera, the lens, the screen and the light. */
export function sharedUniforms() {
  return {
    cameraFromWorld: { value: new THREE.Matrix3() },
    eye: { value: new THREE.Vector3() },
    pinhole: { value: new THREE.Vector4() },
    coefficient: { value: new Array(COEFFICIENTS).fill(0) },
    screen: { value: new THREE.Vector4() },
    range: { value: new THREE.Vector2(0.01, 1000) },
    limit: { value: 1e9 },
    light: { value: new THREE.Vector3(0.4, 0.8, 0.45).normalize() },
    lightDepth: { value: null },
    lightFromWorld: { value: new THREE.Matrix4() },
    masked: { value: null },
    behind: { value: 0 },
    plate: { value: new THREE.Vector4(1, 1, 1, 1) },
    lentFromWorld: { value: new THREE.Matrix3() },
    lentEye: { value: new THREE.Vector3() },
    lentPinhole: { value: new THREE.Vector4() },
    lentRange: { value: new THREE.Vector2(0.01, 1000) },
    lentPicture: { value: null },
    lentDepth: { value: null },
  };
}

/** A material that draws through the lens. */
export function throughLens(
  shared,
  {
    colour,
    other = colour,
    opacity = 1,
    squares = 0,
    shading = 0,
    nearer = 0,
    picture = null,
    catching = 0,
    lending = 0,
  },
) {
  return new THREE.ShaderMaterial({
    vertexShader: VERTEX,
    fragmentShader: FRAGMENT,
    uniforms: {
      ...shared,
      colour: { value: new THREE.Color(colour).convertLinearToSRGB() },
      other: { value: new THREE.Color(other).convertLinearToSRGB() },
      opacity: { value: opacity },
      squares: { value: squares },
      shading: { value: shading },
      picture: { value: picture },
      pictured: { value: picture || lending ? 1 : 0 },
      lending: { value: lending },
      nearer: { value: nearer },
      catching: { value: catching },
    },
    side: THREE.DoubleSide,
    transparent: opacity < 1 || Boolean(picture || lending),
  });
}

/** Aim at a frame: its camera as the attempt has it, and where a plate pixel lies on a screen of a size. */
export function aim(shared, world, camera, { toScreen, width, height }, reach) {
  const { lens, image } = world;
  const r = camera.world_from_camera;
  shared.cameraFromWorld.value.set(r[0][0], r[1][0], r[2][0], r[0][1], r[1][1], r[2][1], r[0][2], r[1][2], r[2][2]);
  shared.eye.value.set(...camera.position);
  const pinhole = pinholeOf(world, camera);
  shared.pinhole.value.set(pinhole.fx, pinhole.fy, pinhole.cx, pinhole.cy);
  shared.coefficient.value = coefficientsOf(lens);
  const [x0, y0] = toScreen(0, 0);
  const [x1, y1] = toScreen(image.width, image.height);
  const [ax, ay] = [(x1 - x0) / image.width, (y1 - y0) / image.height];
  shared.screen.value.set((2 * ax) / width, (2 * x0) / width - 1, (-2 * ay) / height, 1 - (2 * y0) / height);
  shared.limit.value = trustedRadius(image, pinhole) ** 2;
  shared.range.value.set(reach * 0.002, reach * 100);
  const ratio = devicePixelRatio || 1;
  shared.plate.value.set(image.width, image.height, width * ratio, height * ratio);
}

/** How far from the axis, in focal lengths, the lens's polynomial is trusted. */
export function trustedRadius(image, { fx, fy, cx, cy }) {
  return TRUSTED * Math.hypot(Math.max(cx, image.width - cx) / fx, Math.max(cy, image.height - cy) / fy);
}

export function coefficientsOf(lens) {
  const [k1 = 0, k2 = 0, k3 = 0] = lens.radial ?? [];
  const [p1 = 0, p2 = 0] = lens.tangential ?? [];
  const two = lens.two_axis ?? new Array(10).fill(0);
  return [k1, k2, k3, p1, p2, lens.division ?? 0, lens.turn ?? 0, ...two];
}
