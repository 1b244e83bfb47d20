import * as THREE from 'three'

/** Our ramp, from little to much. */
export const RAMP = ['#16324F', '#1F6F7F', '#57B894', '#D9E3A6', '#F7F1DD']

const RAMP_GLSL = RAMP.map((c) => {
  const { r, g, b } = new THREE.Color().setStyle(c, THREE.LinearSRGBColorSpace)
  return `vec3(${r.toFixed(4)}, ${g.toFixed(4)}, ${b.toFixed(4)})`
})

/** GLSL: the shade of a vertex on the ramp's range, or its own colour. */
const SHADED = `
      attribute float shade;
      attribute vec3 colour;
      uniform vec2 range;
      varying float vShade;
      varying vec3 vColour;`
const RAMPED = `
      uniform bool own;
      varying float vShade;
      varying vec3 vColour;
      vec3 ramped() {
        if (own) return vColour;
        float t = clamp(vShade, 0.0, 1.0) * 4.0;
        vec3 c = mix(${RAMP_GLSL[0]}, ${RAMP_GLSL[1]}, clamp(t, 0.0, 1.0));
        c = mix(c, ${RAMP_GLSL[2]}, clamp(t - 1.0, 0.0, 1.0));
        c = mix(c, ${RAMP_GLSL[3]}, clamp(t - 2.0, 0.0, 1.0));
        return mix(c, ${RAMP_GLSL[4]}, clamp(t - 3.0, 0.0, 1.0));
      }`
const SET = `
        vShade = (shade - range.x) / max(range.y - range.x, 1e-6);
        vColour = colour;`
const shadeUniforms = (own: boolean) => ({
  range: { value: new THREE.Vector2(0, 1) },
  own: { value: own },
})

/** Round points of a size in metres, coloured by an attribute's shades, or by their own colours. */
export function pointMaterial(radius: number, own: boolean): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    uniforms: { radius: { value: radius }, height: { value: 600 }, ...shadeUniforms(own) },
    vertexShader: `${SHADED}
      uniform float radius;
      uniform float height;
      void main() {${SET}
        vec4 eye = modelViewMatrix * vec4(position, 1.0);
        gl_Position = projectionMatrix * eye;
        gl_PointSize = clamp(radius * projectionMatrix[1][1] * height / -eye.z, 1.5, 40.0);
      }`,
    fragmentShader: `${RAMPED}
      void main() {
        vec2 d = gl_PointCoord * 2.0 - 1.0;
        float r2 = dot(d, d);
        if (r2 > 1.0) discard;
        float light = 0.72 + 0.38 * sqrt(1.0 - r2) * (0.6 - 0.5 * d.y);
        gl_FragColor = vec4(ramped() * light, 1.0);
      }`,
  })
}

/** Our colours of spray, foam and bubbles. */
export const KINDS = ['#8fc7e8', '#f3ead2', '#58b39a']

export const MOST_LAYERS = 8

/** How points of several kinds are drawn: which kinds and layers are seen, as large as they are, and as light that adds up. */
export interface Look {
  seen: boolean[]
  layers: boolean[]
  trueSize: boolean
  adding: boolean
}

/** Points of several kinds: spray as balls, foam as flakes, bubbles as rings; coloured by kind, ramp or their own. */
export function kindsMaterial(radius: number, colours: 'kind' | 'ramp' | 'own', least: number, look: Look) {
  const seen = [0, 1, 2].map((n) => (look.seen[n] === false ? 0 : 1))
  return new THREE.ShaderMaterial({
    transparent: true,
    depthWrite: false, // their edges are soft
    blending: look.adding ? THREE.AdditiveBlending : THREE.NormalBlending,
    uniforms: {
      radius: { value: radius },
      least: { value: least },
      height: { value: 600 },
      seen: { value: new THREE.Vector3(...seen) },
      layers: { value: Array.from({ length: MOST_LAYERS }, (_, n) => (look.layers[n] === false ? 0 : 1)) },
      trueSize: { value: look.trueSize },
      kinds: { value: colours === 'kind' },
      strength: { value: look.adding ? 0.25 : 1 },
      palette: {
        value: KINDS.map((c) => new THREE.Color().setStyle(c, THREE.LinearSRGBColorSpace)),
      },
      ...shadeUniforms(colours === 'own'),
    },
    vertexShader: `${SHADED}
      attribute float form;
      attribute float layer;
      attribute float size;
      uniform float radius;
      uniform float least;
      uniform float height;
      uniform vec3 seen;
      uniform float layers[${MOST_LAYERS}];
      uniform bool trueSize;
      varying float vForm;
      varying float vGrain;
      void main() {${SET}
        vForm = form;
        vGrain = fract(sin(dot(position, vec3(127.1, 311.7, 74.7))) * 43758.5);
        vec4 eye = modelViewMatrix * vec4(position, 1.0);
        gl_Position = projectionMatrix * eye;
        float wide = trueSize ? least * exp2(size / 16.0) : radius;
        if (!trueSize && form > 0.5 && form < 1.5) wide *= 0.9 + 0.9 * vGrain;
        gl_PointSize = clamp(wide * projectionMatrix[1][1] * height / -eye.z, form > 1.5 ? 3.0 : 1.5, 40.0);
        float shown = (form < 0.5 ? seen.x : form < 1.5 ? seen.y : seen.z) * layers[int(layer)];
        if (shown < 0.5) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);
      }`,
    fragmentShader: `${RAMPED}
      uniform bool kinds;
      uniform vec3 palette[3];
      uniform float strength;
      varying float vForm;
      varying float vGrain;
      void main() {
        float r2 = dot(gl_PointCoord * 2.0 - 1.0, gl_PointCoord * 2.0 - 1.0);
        if (r2 > 1.0) discard;
        bool ring = vForm > 1.5;
        if (ring && r2 < 0.3) discard;
        float light = vForm < 0.5 ? 0.72 + 0.38 * sqrt(1.0 - r2) : 1.0;
        vec3 own = vForm < 0.5 ? palette[0] : ring ? palette[2] : palette[1];
        // foam is many bubbles: soft at its rim, no two flakes alike
        if (!ring && vForm > 0.5) light = 0.82 + 0.18 * vGrain;
        float soft = vForm < 0.5 ? 1.0 - smoothstep(0.6, 1.0, r2) : ring ? 0.75 : 0.85 * (1.0 - smoothstep(0.1, 1.0, r2));
        gl_FragColor = vec4((kinds ? own : ramped()) * light, strength * soft);
      }`,
  })
}

/** What is too fine to be told apart: points so soft that many of them are a cloud. */
export function mistMaterial(radius: number, thick: number): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    transparent: true,
    depthWrite: false,
    uniforms: {
      radius: { value: radius },
      thick: { value: thick },
      height: { value: 600 },
      ...shadeUniforms(false),
    },
    vertexShader: `${SHADED}
      uniform float radius;
      uniform float height;
      void main() {${SET}
        vec4 eye = modelViewMatrix * vec4(position, 1.0);
        gl_Position = projectionMatrix * eye;
        gl_PointSize = clamp(radius * projectionMatrix[1][1] * height / -eye.z, 4.0, 64.0);
      }`,
    fragmentShader: `${RAMPED}
      uniform float thick;
      void main() {
        vec2 off = gl_PointCoord * 2.0 - 1.0;
        float here = exp(-3.0 * dot(off, off)) - 0.05;
        if (here <= 0.0) discard;
        gl_FragColor = vec4(mix(vec3(0.86, 0.9, 0.92), ramped(), 0.25), thick * here);
      }`,
  })
}

/** Small rings of a fixed size on the screen, seen through everything. */
export function leftOutMaterial(): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    transparent: true,
    depthTest: false,
    vertexShader: `
      void main() {
        gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
        gl_PointSize = 9.0;
      }`,
    fragmentShader: `
      void main() {
        float r = length(gl_PointCoord * 2.0 - 1.0);
        if (r > 1.0 || r < 0.5) discard;
        gl_FragColor = vec4(0.79, 0.58, 0.20, 0.9);
      }`,
  })
}

/** A dull surface coloured by an attribute's shades, or by its own colours. */
export function shadedMaterial(own: boolean): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    side: THREE.DoubleSide,
    uniforms: shadeUniforms(own),
    vertexShader: `${SHADED}
      varying vec3 vNormal;
      void main() {${SET}
        vNormal = normalize(mat3(transpose(inverse(modelMatrix))) * normal);
        gl_Position = projectionMatrix * modelViewMatrix * vec4(position, 1.0);
      }`,
    fragmentShader: `${RAMPED}
      varying vec3 vNormal;
      void main() {
        vec3 n = normalize(vNormal) * (gl_FrontFacing ? 1.0 : -1.0);
        float light = 0.55 + 0.55 * clamp(dot(n, normalize(vec3(0.45, 0.75, 0.5))), -0.4, 1.0);
        gl_FragColor = vec4(ramped() * light, 1.0);
      }`,
  })
}

/** Liquid by Fresnel: a body of its colour under a sky that it mirrors as its refractive index has it, with one sun. */
export function surfaceMaterial(opacity = 1): THREE.ShaderMaterial {
  return new THREE.ShaderMaterial({
    side: opacity < 1 ? THREE.FrontSide : THREE.DoubleSide,
    transparent: opacity < 1,
    uniforms: { through: { value: opacity } },
    vertexShader: `
      attribute vec4 body;
      varying vec4 vBody;
      varying vec3 vNormal;
      varying vec3 vWorld;
      void main() {
        vBody = body;
        vec4 world = modelMatrix * vec4(position, 1.0);
        vWorld = world.xyz;
        vNormal = normalize(mat3(transpose(inverse(modelMatrix))) * normal);
        gl_Position = projectionMatrix * viewMatrix * world;
      }`,
    fragmentShader: `
      uniform float through;
      varying vec4 vBody;
      varying vec3 vNormal;
      varying vec3 vWorld;
      vec3 sky(vec3 d) {
        float h = clamp(d.y * 0.5 + 0.5, 0.0, 1.0);
        vec3 low = mix(vec3(0.05, 0.07, 0.08), vec3(0.42, 0.52, 0.55), smoothstep(0.30, 0.55, h));
        return mix(low, vec3(0.80, 0.88, 0.90), smoothstep(0.55, 1.0, h));
      }
      void main() {
        vec3 view = normalize(cameraPosition - vWorld);
        vec3 n = normalize(vNormal) * (gl_FrontFacing ? 1.0 : -1.0);
        float facing = clamp(dot(n, view), 0.0, 1.0);
        float fresnel = vBody.a + (1.0 - vBody.a) * pow(1.0 - facing, 5.0);
        vec3 sun = normalize(vec3(0.45, 0.75, 0.5));
        vec3 mirrored = reflect(-view, n);
        vec3 body = mix(pow(vBody.rgb, vec3(2.2)), vBody.rgb, pow(facing, 1.6)); // deeper where more of it is seen through
        body *= 0.65 + 0.45 * clamp(dot(n, sun), 0.0, 1.0);
        float glint = pow(clamp(dot(mirrored, sun), 0.0, 1.0), 220.0) * 1.6;
        vec3 c = mix(body, sky(mirrored), clamp(fresnel + 0.10, 0.0, 1.0)) + glint;
        gl_FragColor = vec4(pow(c, vec3(0.85)), through);
      }`,
  })
}

/** Colliders and sources. */
export function solidMaterial(colour: string, opacity: number): THREE.MeshStandardMaterial {
  return new THREE.MeshStandardMaterial({
    color: colour,
    roughness: 0.95,
    metalness: 0,
    side: THREE.FrontSide,
    transparent: opacity < 1,
    opacity,
    polygonOffset: true,
    polygonOffsetFactor: 1,
    polygonOffsetUnits: 1,
  })
}
