// What the light does not reach: the test objects as the light sees them, asked by what catches their shadows.
import * as THREE from "three";
import { SHADOW_SIDE } from "./lens_shader.js";

export class ShadowMap {
  constructor(shared) {
    this.shared = shared;
    this.scene = new THREE.Scene();
    this.eye = new THREE.OrthographicCamera();
    this.material = new THREE.MeshBasicMaterial({ side: THREE.DoubleSide });
    this.target = null;
    this.fresh = false;
  }

  /** Take the objects that cast shadows: meshes whose geometry is shared, each with where it is moved to, if it is. */
  take(meshes) {
    this.scene.clear();
    for (const { sheet, moved } of meshes) {
      const copy = new THREE.Mesh(sheet, this.material);
      copy.frustumCulled = false;
      if (moved) {
        copy.matrixAutoUpdate = false;
        copy.matrix.copy(moved);
      }
      this.scene.add(copy);
    }
    this.scene.updateMatrixWorld(true);
    this.fresh = false;
  }

  get empty() {
    return !this.scene.children.length;
  }

  /** Draw the map where the light or the objects are others than before. */
  draw(renderer, light) {
    if (this.empty || (this.fresh && this.light?.equals(light))) return;
    this.light = light.clone();
    this.fresh = true;
    if (!this.target) {
      this.target = new THREE.WebGLRenderTarget(SHADOW_SIDE, SHADOW_SIDE);
      this.target.depthTexture = new THREE.DepthTexture(SHADOW_SIDE, SHADOW_SIDE);
    }
    const ball = new THREE.Box3().setFromObject(this.scene).getBoundingSphere(new THREE.Sphere());
    const r = ball.radius * 1.02 || 1;
    Object.assign(this.eye, { left: -r, right: r, top: r, bottom: -r, near: 0, far: 2 * r });
    this.eye.position.copy(ball.center).addScaledVector(light, r);
    this.eye.up.set(Math.abs(light.y) > 0.99 ? 1 : 0, Math.abs(light.y) > 0.99 ? 0 : 1, 0);
    this.eye.lookAt(ball.center);
    this.eye.updateProjectionMatrix();
    this.eye.updateMatrixWorld(true);
    renderer.setRenderTarget(this.target);
    renderer.clear();
    renderer.render(this.scene, this.eye);
    renderer.setRenderTarget(null);
    this.shared.lightDepth.value = this.target.depthTexture;
    this.shared.lightFromWorld.value.multiplyMatrices(this.eye.projectionMatrix, this.eye.matrixWorldInverse);
  }
}
