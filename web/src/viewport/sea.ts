import * as THREE from 'three'

import type { Packed } from './packed'

const ACROSS = 0.5 // of a patch: edge of the triangles on which it is laid anew (`ACROSS` of basin/sea/horizon.py)
const SOFT = 0.5 // as there
const EDGE = 8 // points along the window of wakes over which they go (`EDGE` of basin/sea/wake.py)
const RINGS = 420
const TURNS = 560
const FARTHEST = 30_000 // m
const MOST = 4 // patches

/** How a sea is laid and looks, as the scene has it. */
export interface SeaLook {
  level: number
  middle: [number, number]
  from: number
  keys: number[]
  /** m, of holes in its foam */
  pattern: number
  wire: boolean
}

/** What a sea can be coloured by, as `SEA_FIELDS` of basin/stages/view.py. */
const FIELDS = ['wave_height', 'squeeze', 'wave_slope', 'foam']

/** GLSL: a patch laid at random places, with the same numbers as `basin/sea/horizon.py`. */
const LAID = `
  uniform sampler2D shifts[${MOST}];
  uniform float sizes[${MOST}];
  uniform float counts[${MOST}];
  uniform uint keys[${MOST}];
  uniform int patches;
  uniform vec2 middle;
  uniform float from;
  uniform sampler2D wakeShift;
  uniform float wakeSize;
  uniform float wakeCount;
  uniform vec2 wakeFrom;
  uint mixed(uint x) {
    uint state = x * 747796405u + 2891336453u;
    uint word = ((state >> ((state >> 28u) + 4u)) ^ state) * 277803737u;
    return (word >> 22u) ^ word;
  }
  vec2 placed(ivec2 at, uint key) {
    uint first = mixed(uint(at.x) ^ mixed(uint(at.y) ^ mixed(key)));
    uint second = mixed(first);
    return vec2(first >> 8u, second >> 8u) / 16777216.0;
  }
  struct Lay { vec2 own[3]; vec3 weight; float far; };
  Lay lay(vec2 x, float size, uint key) {
    Lay found;
    float away = clamp((length(x - middle) - from) / (${SOFT} * from), 0.0, 1.0);
    found.far = away * away * (3.0 - 2.0 * away);
    vec2 p = x / (${ACROSS} * size);
    vec2 skew = vec2(p.x - p.y * 0.5773502691896258, p.y * 1.1547005383792517);
    ivec2 at = ivec2(floor(skew));
    vec2 s = skew - vec2(at);
    float third = 1.0 - s.x - s.y;
    bool upper = third < 0.0;
    found.weight = upper ? vec3(-third, 1.0 - s.x, 1.0 - s.y) : vec3(third, s.y, s.x);
    found.own[0] = placed(upper ? at + ivec2(1) : at, key);
    found.own[1] = placed(at + ivec2(0, 1), key);
    found.own[2] = placed(at + ivec2(1, 0), key);
    return found;
  }
  /** 1 where wakes are, softly 0 from their window's edge on */
  float waked(vec2 x) {
    vec2 within = (x - wakeFrom) * wakeCount / wakeSize;
    vec2 away = min(within, wakeCount - 1.0 - within);
    return clamp(min(away.x, away.y) / ${EDGE}.0, 0.0, 1.0);
  }
  vec3 patched(vec2 x, float cell) {
    vec3 sum = vec3(0.0);
    for (int n = 0; n < ${MOST}; n++) {
      if (n >= patches) break;
      Lay l = lay(x, sizes[n], keys[n]);
      // rows of the texture go along x, columns along z; a point stands for the middle of its texel
      vec2 u = x.yx / sizes[n] + 0.5 / counts[n];
      float lod = max(log2(cell * counts[n] / sizes[n]), 0.0);
      vec3 near = vec3(0.0), laid = vec3(0.0);
      #define AT(v) (n == 0 ? textureLod(shifts[0], v, lod) : n == 1 ? textureLod(shifts[1], v, lod) : n == 2 ? textureLod(shifts[2], v, lod) : textureLod(shifts[3], v, lod)).xyz
      if (l.far < 1.0) near = AT(u);
      if (l.far > 0.0) {
        for (int c = 0; c < 3; c++) laid += l.weight[c] * AT(u + l.own[c].yx);
        laid /= length(l.weight);
      }
      sum += ((1.0 - l.far) * near + l.far * laid) / length(vec2(1.0 - l.far, l.far));
    }
    return sum;
  }
  vec3 moved(vec2 x, float cell) {
    vec3 sum = patched(x, cell);
    // wakes lie on the surface as the patches move it
    vec2 at = x + sum.xz;
    float there = waked(at);
    float lod = max(log2(cell * wakeCount / wakeSize), 0.0);
    if (there > 0.0) sum += there * textureLod(wakeShift, at.yx / wakeSize + 0.5 / wakeCount, lod).xyz;
    return sum;
  }`

const SKY = `
  uniform vec3 sun;
  vec3 sky(vec3 d) {
    float h = clamp(d.y, 0.0, 1.0);
    vec3 low = vec3(0.74, 0.79, 0.79);
    vec3 high = vec3(0.30, 0.42, 0.50);
    vec3 c = mix(low, high, pow(h, 0.55));
    float near = clamp(dot(d, sun), 0.0, 1.0);
    return c + vec3(0.30, 0.26, 0.18) * pow(near, 6.0) * 0.5;
  }`

const VERTEX = `
  ${LAID}
  uniform vec3 eye;
  uniform float level;
  uniform vec2 steep;
  uniform vec2 sector;
  varying vec2 vAt;
  varying vec2 vLies;
  varying vec3 vWorld;
  varying float vHeight;
  void main() {
    float high = max(abs(eye.y - level), 0.3);
    float dip = mix(steep.x, steep.y, position.x);
    float r = high / tan(dip);
    float turn = sector.x + sector.y * position.y;
    vec2 x = eye.xz + r * vec2(cos(turn), sin(turn));
    float cell = max((steep.y - steep.x) / ${RINGS}.0 * (r * r + high * high) / high, r * 2.0 * sector.y / ${TURNS}.0);
    vec3 by = moved(x, 0.7 * cell);
    vAt = x;
    vLies = x + patched(x, 0.7 * cell).xz;
    vHeight = by.y;
    vWorld = vec3(x.x + by.x, level + by.y, x.y + by.z);
    gl_Position = projectionMatrix * viewMatrix * vec4(vWorld, 1.0);
  }`

const FRAGMENT = `
  const float UNSEEN = ${0.02}; // mean square slope of ripples too small for any patch (Cox & Munk 1954: half of it, in a breeze)
  ${LAID}
  ${SKY}
  uniform sampler2D shades[${MOST}];
  uniform sampler2D wakeShade;
  uniform float pattern;
  uniform float rough;
  uniform int by;
  uniform vec2 ends;
  uniform float highest;
  uniform vec2 range;
  uniform vec3 ramp[5];
  varying vec2 vAt;
  varying vec2 vLies;
  varying vec3 vWorld;
  varying float vHeight;
  vec2 spot(vec2 p) {
    p = vec2(dot(p, vec2(127.1, 311.7)), dot(p, vec2(269.5, 183.3)));
    return fract(sin(p) * 43758.5453);
  }
  /** how near the walls between cells are, 0 in their middles and 1 at walls */
  float lace(vec2 p) {
    vec2 i = floor(p), f = p - i;
    float one = 8.0, two = 8.0;
    for (int a = -1; a <= 1; a++) for (int b = -1; b <= 1; b++) {
      vec2 g = vec2(float(a), float(b));
      vec2 d = g + spot(i + g) - f;
      float m = dot(d, d);
      if (m < one) { two = one; one = m; } else if (m < two) two = m;
    }
    return 1.0 - clamp(sqrt(two) - sqrt(one), 0.0, 1.0);
  }
  vec4 shade(int n, vec2 v, vec2 dx, vec2 dy) {
    return n == 0 ? textureGrad(shades[0], v, dx, dy) : n == 1 ? textureGrad(shades[1], v, dx, dy)
      : n == 2 ? textureGrad(shades[2], v, dx, dy) : textureGrad(shades[3], v, dx, dy);
  }
  void main() {
    vec2 slope = vec2(0.0);
    float squeezed = 1.0, cover = 0.0, lost = 0.0;
    vec2 px = dFdx(vAt), py = dFdy(vAt);
    float pixel = max(length(px), length(py));
    for (int n = 0; n < ${MOST}; n++) {
      if (n >= patches) break;
      Lay l = lay(vAt, sizes[n], keys[n]);
      vec2 u = vAt.yx / sizes[n] + 0.5 / counts[n];
      vec2 dx = px.yx / sizes[n], dy = py.yx / sizes[n];
      vec4 near = vec4(0.0), laid = vec4(0.0);
      float even = 0.0;
      if (l.far < 1.0) near = shade(n, u, dx, dy);
      if (l.far > 0.0) for (int c = 0; c < 3; c++) laid += l.weight[c] * shade(n, u + l.own[c].yx, dx, dy);
      float whole = 1.0 / length(vec2(1.0 - l.far, l.far));
      slope += ((1.0 - l.far) * near.xy + l.far * laid.xy / length(l.weight)) * whole;
      if (n == 0) {
        squeezed = mix(near.z, laid.z, l.far);
        cover = mix(near.w, laid.w, l.far);
      }
    }
    float there = waked(vLies);
    if (there > 0.0) {
      vec4 own = texture2D(wakeShade, vLies.yx / wakeSize + 0.5 / wakeCount);
      slope += there * own.xy;
      squeezed *= mix(1.0, own.z, there);
      cover = 1.0 - (1.0 - cover) * (1.0 - there * own.w);
    }
    lost = rough * smoothstep(0.5, 30.0, pixel * counts[0] / sizes[0]);
    float blur = lost + UNSEEN;
    vec3 n = normalize(vec3(-slope.x, 1.0, -slope.y));
    vec3 view = normalize(cameraPosition - vWorld);
    // what a pixel does not show of its waves turns them towards the eye in the mean
    float facing = clamp(dot(n, view), 0.0, 1.0);
    facing = sqrt(facing * facing + 0.5 * blur);
    float fresnel = 0.02 + 0.98 * pow(1.0 - clamp(facing, 0.0, 1.0), 5.0);
    vec3 mirrored = reflect(-view, n);
    mirrored.y = abs(mirrored.y) + 1.3 * blur;
    mirrored = normalize(mirrored);
    float crest = clamp(vHeight * 0.6 / max(highest, 0.05), -1.0, 1.0);
    vec3 body = vec3(0.022, 0.085, 0.088) + vec3(0.02, 0.06, 0.048) * max(crest, 0.0);
    body *= 0.75 + 0.5 * clamp(dot(n, sun), 0.0, 1.0);
    vec3 half_ = normalize(view + sun);
    float tilt = max(dot(n, half_), 1e-3);
    float wide = 0.5 * (UNSEEN + lost);
    float lobe = exp(-(1.0 - tilt * tilt) / (tilt * tilt) / (2.0 * wide)) / (wide * 60.0);
    vec3 c = mix(body, sky(mirrored), fresnel) + vec3(1.0, 0.93, 0.8) * min(lobe, 2.0) * 0.3;
    // drawn out and bent, no two holes alike
    vec2 q = vAt / pattern + 0.5 * slope;
    q += 0.32 * vec2(sin(1.7 * q.y + sin(1.1 * q.x)), sin(1.9 * q.x + sin(1.3 * q.y)));
    q += 0.12 * vec2(sin(5.3 * q.y + 1.0), sin(4.7 * q.x));
    float holes = lace(q) * 0.65 + 0.35 * lace(q * 2.3 + 7.0);
    float fine = 1.0 - smoothstep(0.15, 0.6, pixel / pattern);
    float whole = cover * cover * (3.0 - 2.0 * cover);
    float white_ = mix(whole, smoothstep(0.98 - cover, 1.18 - 0.85 * cover, holes), fine);
    white_ = max(white_, smoothstep(0.75, 1.0, cover));
    vec3 white = vec3(0.80, 0.83, 0.82) * (0.62 + 0.42 * clamp(dot(n, sun), 0.0, 1.0));
    c = mix(c, white, clamp(white_, 0.0, 1.0) * 0.93);
    if (by > 0) {
      float value = by == 1 ? vHeight : by == 2 ? squeezed : by == 3 ? length(slope) : cover;
      float t = ((value - ends.x) / max(ends.y - ends.x, 1e-6) - range.x) / max(range.y - range.x, 1e-6);
      t = clamp(t, 0.0, 1.0) * 4.0;
      vec3 r = mix(ramp[0], ramp[1], clamp(t, 0.0, 1.0));
      r = mix(r, ramp[2], clamp(t - 1.0, 0.0, 1.0));
      r = mix(r, ramp[3], clamp(t - 2.0, 0.0, 1.0));
      r = mix(r, ramp[4], clamp(t - 3.0, 0.0, 1.0));
      c = r * (0.7 + 0.4 * clamp(dot(n, sun), 0.0, 1.0));
      if (squeezed < 0.0) c = vec3(0.88, 0.36, 0.30); // it folds
    }
    float away = length(cameraPosition - vWorld);
    if (by == 0) c = mix(c, sky(normalize(vec3(-view.x, 0.0, -view.z))), 1.0 - exp(-away / 9000.0));
    gl_FragColor = vec4(pow(c, vec3(0.87)), 1.0);
  }`

/** A sea to the horizon: a grid that follows the eye, moved on the graphics card, under a sky. */
export class SeaSurface {
  readonly group = new THREE.Group()
  private mesh: THREE.Mesh<THREE.BufferGeometry, THREE.ShaderMaterial>
  private dome: THREE.Mesh<THREE.SphereGeometry, THREE.ShaderMaterial>
  private uniforms: Record<string, THREE.IUniform>
  private probe: THREE.ShaderMaterial | undefined
  private look: SeaLook | undefined

  constructor(ramp: string[]) {
    const blank = new THREE.DataTexture(new Float32Array(4), 1, 1, THREE.RGBAFormat, THREE.FloatType)
    const sun = { value: new THREE.Vector3(0.5, 0.42, -0.76).normalize() }
    this.uniforms = {
      shifts: { value: Array(MOST).fill(blank) },
      shades: { value: Array(MOST).fill(blank) },
      sizes: { value: Array(MOST).fill(1) },
      counts: { value: Array(MOST).fill(1) },
      keys: { value: new Uint32Array(MOST) },
      patches: { value: 0 },
      wakeShift: { value: blank },
      wakeShade: { value: blank },
      wakeSize: { value: 1 },
      wakeCount: { value: 0 },
      wakeFrom: { value: new THREE.Vector2() },
      middle: { value: new THREE.Vector2() },
      from: { value: 1 },
      eye: { value: new THREE.Vector3() },
      level: { value: 0 },
      steep: { value: new THREE.Vector2() },
      sector: { value: new THREE.Vector2() },
      pattern: { value: 1 },
      rough: { value: 0.02 },
      by: { value: 0 },
      highest: { value: 1 },
      ends: { value: new THREE.Vector2(0, 1) },
      range: { value: new THREE.Vector2(0, 1) },
      ramp: { value: ramp.map((c) => new THREE.Color().setStyle(c, THREE.LinearSRGBColorSpace)) },
      sun,
    }
    const grid = new Float32Array((RINGS + 1) * (TURNS + 1) * 3)
    const index = new Uint32Array(RINGS * TURNS * 6)
    let at = 0
    for (let i = 0; i <= RINGS; i++)
      for (let j = 0; j <= TURNS; j++) {
        grid.set([i / RINGS, (2 * j) / TURNS - 1, 0], at)
        at += 3
      }
    at = 0
    for (let i = 0; i < RINGS; i++)
      for (let j = 0; j < TURNS; j++) {
        const a = i * (TURNS + 1) + j
        index.set([a, a + 1, a + TURNS + 2, a, a + TURNS + 2, a + TURNS + 1], at)
        at += 6
      }
    const geometry = new THREE.BufferGeometry()
    geometry.setAttribute('position', new THREE.BufferAttribute(grid, 3))
    geometry.setIndex(new THREE.BufferAttribute(index, 1))
    const material = new THREE.ShaderMaterial({
      side: THREE.DoubleSide,
      uniforms: this.uniforms,
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
    })
    this.mesh = new THREE.Mesh(geometry, material)
    this.mesh.frustumCulled = false
    this.dome = new THREE.Mesh(
      new THREE.SphereGeometry(1, 32, 24),
      new THREE.ShaderMaterial({
        side: THREE.BackSide,
        depthWrite: false,
        depthTest: false,
        uniforms: { sun },
        vertexShader: `
          varying vec3 vWay;
          void main() {
            vWay = position;
            gl_Position = projectionMatrix * vec4(mat3(viewMatrix) * position, 1.0);
          }`,
        fragmentShader: `
          ${SKY}
          varying vec3 vWay;
          void main() {
            vec3 d = normalize(vWay);
            d.y = max(d.y, 0.0);
            float disc = smoothstep(0.9996, 0.9999, dot(d, sun));
            gl_FragColor = vec4(pow(sky(d) + disc * 0.6, vec3(0.87)), 1.0);
          }`,
      }),
    )
    this.dome.renderOrder = -10
    this.dome.frustumCulled = false
    this.mesh.renderOrder = -5
    this.group.add(this.dome, this.mesh)
    this.group.visible = false
  }

  /** Show a frame as it is laid and looks. */
  show(packed: Packed, look: SeaLook) {
    const u = this.uniforms
    this.look = look
    const patches = packed.patches ?? []
    const [shifts, shades] = [[...u.shifts.value], [...u.shades.value]]
    let high = 0
    for (const [n, patch] of patches.entries()) {
      const own = packed as unknown as Record<string, Uint16Array>
      shifts[n] = this.texture(shifts[n], floats(own[`shift_${n}`], patch), patch.count, THREE.FloatType)
      shades[n] = this.texture(shades[n], own[`shade_${n}`], patch.count, THREE.HalfFloatType)
      u.sizes.value[n] = patch.size
      u.counts.value[n] = patch.count
      high += patch.low[1] + patch.span[1]
    }
    u.wakeCount.value = packed.wake?.count ?? 0
    if (packed.wake) {
      const own = packed as unknown as Record<string, Uint16Array>
      const { count, size, from } = packed.wake
      u.wakeShift.value = this.texture(
        u.wakeShift.value,
        floats(own.shift_wake, packed.wake),
        count,
        THREE.FloatType,
      )
      u.wakeShade.value = this.texture(u.wakeShade.value, own.shade_wake, count, THREE.HalfFloatType)
      u.wakeSize.value = size
      u.wakeFrom.value.set(...from)
    }
    u.shifts.value = shifts
    u.shades.value = shades
    u.patches.value = patches.length
    u.keys.value = new Uint32Array([...look.keys, 0, 0, 0, 0].slice(0, MOST))
    u.middle.value.set(...look.middle)
    u.from.value = look.from
    u.level.value = look.level
    u.pattern.value = look.pattern
    u.by.value = FIELDS.indexOf(packed.by ?? '') + 1
    u.highest.value = high
    u.ends.value.set(packed.least ?? 0, packed.top ?? 1)
    this.mesh.material.wireframe = look.wire
    this.group.visible = true
  }

  private texture(
    old: THREE.DataTexture,
    data: Float32Array | Uint16Array,
    count: number,
    type: THREE.TextureDataType,
  ): THREE.DataTexture {
    if (old.image.width === count && old.type === type) {
      old.image.data = data as unknown as Uint8ClampedArray
      old.needsUpdate = true
      return old
    }
    if (old.image.width > 1) old.dispose()
    const made = new THREE.DataTexture(data, count, count, THREE.RGBAFormat, type)
    made.wrapS = made.wrapT = THREE.RepeatWrapping
    made.magFilter = THREE.LinearFilter
    made.minFilter = THREE.LinearMipmapLinearFilter
    made.generateMipmaps = true
    made.anisotropy = type === THREE.HalfFloatType ? 4 : 1
    made.needsUpdate = true
    return made
  }

  /** Where the ramp begins and ends, as shares of it. */
  setRange(low: number, high: number) {
    this.uniforms.range.value.set(low, high)
  }

  /** Before each picture: the grid goes along with the camera. */
  follow(camera: THREE.PerspectiveCamera) {
    if (!this.group.visible || !this.look) return
    const u = this.uniforms
    const ahead = camera.getWorldDirection(new THREE.Vector3())
    const high = Math.max(Math.abs(camera.position.y - this.look.level), 0.3)
    const half = (camera.fov * Math.PI) / 360
    const dip = Math.asin(THREE.MathUtils.clamp(-ahead.y, -1, 1))
    // the corners of the picture look farther down, and farther aside, than its edges
    const wide = Math.atan(Math.tan(half) * Math.hypot(1, camera.aspect))
    const lowest = Math.min(dip + wide * 1.1 + 0.05, Math.PI / 2 - 0.005)
    u.eye.value.copy(camera.position)
    u.steep.value.set(Math.atan(high / FARTHEST), Math.max(lowest, 0.05))
    const aside =
      dip + wide > 1.2
        ? Math.PI
        : Math.min(Math.atan(Math.tan(wide) / Math.cos(dip + half)) * 1.15 + 0.15, Math.PI)
    u.sector.value.set(Math.atan2(ahead.z, ahead.x), aside)
  }

  /** What the graphics card moves points of the surface at rest by, m; for tests. */
  movedAt(renderer: THREE.WebGLRenderer, points: [number, number][]): number[][] {
    const target = new THREE.WebGLRenderTarget(points.length, 1, {
      type: THREE.FloatType,
      format: THREE.RGBAFormat,
    })
    const given = new THREE.DataTexture(
      new Float32Array(points.flatMap(([x, z]) => [x, z, 0, 0])),
      points.length,
      1,
      THREE.RGBAFormat,
      THREE.FloatType,
    )
    given.needsUpdate = true
    this.probe ??= new THREE.ShaderMaterial({
      uniforms: { ...this.uniforms, given: { value: given } },
      vertexShader: 'void main() { gl_Position = vec4(position.xy * 2.0, 0.0, 1.0); }',
      fragmentShader: `${LAID}
        uniform sampler2D given;
        void main() {
          vec2 x = texelFetch(given, ivec2(gl_FragCoord.xy), 0).xy;
          gl_FragColor = vec4(moved(x, 0.0), 1.0);
        }`,
    })
    this.probe.uniforms.given.value = given
    const [scene, camera] = [new THREE.Scene(), new THREE.Camera()]
    const quad = new THREE.Mesh(new THREE.PlaneGeometry(1, 1), this.probe)
    quad.frustumCulled = false
    scene.add(quad)
    renderer.setRenderTarget(target)
    renderer.render(scene, camera)
    const read = new Float32Array(points.length * 4)
    renderer.readRenderTargetPixels(target, 0, 0, points.length, 1, read)
    renderer.setRenderTarget(null)
    target.dispose()
    given.dispose()
    return points.map((_, n) => [...read.slice(4 * n, 4 * n + 3)])
  }

  hide() {
    this.group.visible = false
  }

  dispose() {
    const { shifts, shades, wakeShift, wakeShade } = this.uniforms
    for (const t of [...shifts.value, ...shades.value, wakeShift.value, wakeShade.value]) t.dispose()
    this.mesh.geometry.dispose()
    this.mesh.material.dispose()
    this.dome.geometry.dispose()
    this.dome.material.dispose()
    this.probe?.dispose()
  }
}

/** Sixteen bits within bounds to metres, with a fourth number that nothing reads. */
function floats(packed: Uint16Array, patch: { low: number[]; span: number[]; count: number }): Float32Array {
  const out = new Float32Array(patch.count * patch.count * 4)
  const [a, b, c] = patch.span.map((s) => s / 65535)
  const [p, q, r] = patch.low
  for (let i = 0, j = 0; i < packed.length; i += 3, j += 4) {
    out[j] = p + a * packed[i]
    out[j + 1] = q + b * packed[i + 1]
    out[j + 2] = r + c * packed[i + 2]
  }
  return out
}
