// The plate of one frame thrown onto what stands for the set, at once: looked at from all other frames.
import * as THREE from "three";
import { aim, throughLens } from "./lens_shader.js";

/** Over the plate's size: that of the map of what the lending frame sees nearest. */
const DEPTH_SHARE = 0.5;

export class Lender {
  constructor(shared) {
    this.shared = shared;
    this.scene = new THREE.Scene();
    this.eye = new THREE.Camera();
    this.key = [];
  }

  /** Let a frame lend its picture to some surfaces: its camera, and its picture as a bitmap. */
  lend(renderer, { world, camera, picture, sheets, reach }) {
    const key = [world, camera, picture, ...sheets];
    if (key.length === this.key.length && key.every((part, k) => part === this.key[k])) return;
    this.key = key;
    this.show(picture);
    const { width, height } = world.image;
    const size = [width, height].map((v) => Math.round(v * DEPTH_SHARE));
    if (!this.target || this.target.width !== size[0]) {
      this.target?.dispose();
      this.target = new THREE.WebGLRenderTarget(...size);
      this.target.depthTexture = new THREE.DepthTexture(...size);
    }
    for (const child of [...this.scene.children]) {
      child.material.dispose();
      this.scene.remove(child);
    }
    for (const sheet of sheets) {
      const mesh = new THREE.Mesh(sheet, throughLens(this.shared, { colour: "#000000" }));
      mesh.frustumCulled = false;
      this.scene.add(mesh);
    }
    const { shared } = this;
    aim(shared, world, camera, { toScreen: (x, y) => [x, y], width, height }, reach);
    shared.lentFromWorld.value.copy(shared.cameraFromWorld.value);
    shared.lentEye.value.copy(shared.eye.value);
    shared.lentPinhole.value.copy(shared.pinhole.value);
    shared.lentRange.value.copy(shared.range.value);
    // The map must not be read while it is drawn.
    shared.lentDepth.value = null;
    renderer.setRenderTarget(this.target);
    renderer.clear();
    renderer.render(this.scene, this.eye);
    renderer.setRenderTarget(null);
    shared.lentDepth.value = this.target.depthTexture;
  }

  show(picture) {
    this.easel ??= new OffscreenCanvas(picture.width, picture.height);
    [this.easel.width, this.easel.height] = [picture.width, picture.height];
    this.easel.getContext("2d").drawImage(picture, 0, 0);
    this.map?.dispose();
    this.map = new THREE.CanvasTexture(this.easel);
    this.map.generateMipmaps = false;
    this.map.minFilter = THREE.LinearFilter;
    this.shared.lentPicture.value = this.map;
  }
}
