import schema from '../api/scene-schema.json'

/* eslint-disable @typescript-eslint/no-explicit-any -- JSON schema is data */
type Json = Record<string, any>

export interface Setting {
  path: (string | number)[]
  name: string
  title: string
  meaning: string
  unit: string
  group: string
  kind: 'number' | 'integer' | 'vector' | 'choice' | 'text' | 'part'
  nullable: boolean
  control: string
  keyed: boolean
  choices: string[]
  slider: [number, number] | null
  log: boolean
  initial: unknown
}

const defs = (schema as Json).$defs as Json

function resolved(node: Json): Json {
  if (node.$ref) return { ...defs[String(node.$ref).split('/').pop()!], ...node, $ref: undefined }
  return node
}

function kindOf(node: Json): Setting['kind'] | null {
  const n = resolved(node)
  if (n.enum) return 'choice'
  if (n.type === 'number') return 'number'
  if (n.type === 'integer') return 'integer'
  if (n.type === 'string') return 'text'
  if (n.type === 'array' && n.prefixItems) return 'vector'
  return null
}

/** Settings of one part of the scene, in the order of its definition. */
export function settingsOf(part: string, path: (string | number)[]): Setting[] {
  const found: Setting[] = []
  for (const [name, raw] of Object.entries((defs[part]?.properties ?? {}) as Json)) {
    const node = resolved(raw as Json)
    const zinc = node.zinc as Json | undefined
    if (!zinc) {
      const inner = String((raw as Json).$ref ?? '')
        .split('/')
        .pop()
      if (inner && defs[inner]?.properties && inner !== 'Curve')
        found.push(...settingsOf(inner, [...path, name]))
      continue
    }
    const options = ((node.anyOf as Json[] | undefined) ?? [node]).map(resolved)
    const plain = options.find((o) => o.type !== 'null' && o.title !== 'Curve' && kindOf(o))
    if (!plain) continue
    found.push({
      path: [...path, name],
      name,
      title: String(
        node.title && !/^[A-Z][a-z]+( [A-Z][a-z]+)+$/.test(node.title)
          ? node.title
          : sentence(node.title ?? name),
      ),
      meaning: String(node.description ?? ''),
      unit: String(zinc.unit ?? ''),
      group: String(zinc.group ?? ''),
      kind: kindOf(plain)!,
      control: String(zinc.control ?? ''),
      nullable: options.some((o) => o.type === 'null'),
      keyed: Boolean(zinc.keyed),
      choices: (plain.enum as string[]) ?? [],
      slider: (zinc.slider as [number, number]) ?? null,
      log: zinc.scale === 'log',
      initial: node.default,
    })
  }
  return found
}

function sentence(words: string): string {
  const lower = words.replaceAll('_', ' ').toLowerCase()
  return lower.charAt(0).toUpperCase() + lower.slice(1)
}

/** Names of definitions by the `kind` that tells them apart, as the schema lists them. */
function kindsOf(node: Json): Json {
  const mapping = (node.discriminator?.mapping ?? {}) as Json
  return Object.fromEntries(
    Object.entries(mapping).map(([kind, ref]) => [kind, String(ref).split('/').pop()]),
  )
}
const KINDS = kindsOf((schema as Json).properties.elements.items)

/** Settings of an element: its shape or effect, where it acts and is, and what it does. */
export function settingsOfElement(element: Json, index: number): Setting[] {
  const at = ['elements', index]
  const own = settingsOf(KINDS[element.kind], at).filter((s) => s.path.length === 3)
  const fields = defs[KINDS[element.kind]].properties as Json
  const part = (name: string) =>
    fields[name]
      ? settingsOf(kindsOf(fields[name])[element[name]?.kind ?? fields[name].default?.kind], [...at, name])
      : []
  /** A part of several kinds: which one, and its own settings. */
  const choice = (name: string, title: string, group: string): Setting[] =>
    fields[name]
      ? [
          {
            path: [...at, name],
            name,
            title,
            meaning: String(fields[name].description),
            unit: '',
            group,
            kind: 'part',
            nullable: false,
            control: '',
            keyed: false,
            choices: Object.keys(kindsOf(fields[name])),
            slider: null,
            log: false,
            initial: { kind: Object.keys(kindsOf(fields[name]))[0] },
          },
          ...part(name).map((s) => ({ ...s, group })),
        ]
      : []
  // the second colour and mark only where there are two
  const single = (element.paint?.kind ?? 'plain') === 'plain'
  const birth = own.filter((s) => s.group === 'At birth' && !(single && s.name.endsWith('_to')))
  return [
    ...part('shape'),
    ...part('effect'),
    ...choice('zone', 'Acts', 'Zone'),
    ...settingsOf('Pose', [...at, 'pose']),
    ...own.filter((s) => s.group !== 'At birth'),
    ...choice('paint', 'Laid out', 'At birth'),
    ...birth.filter((s) => !(element.paint?.kind === 'image' && s.control === 'colour')),
  ]
}

export function valueAt(document: Json, path: (string | number)[]): unknown {
  return path.reduce((node: any, key) => node?.[key], document)
}

/** A copy of a document with one value changed. */
export function withValue(document: Json, path: (string | number)[], value: unknown): Json {
  const copy = structuredClone(document)
  const last = path.at(-1)!
  const holder = path.slice(0, -1).reduce((node: any, key) => (node[key] ??= {}), copy)
  holder[last] = value
  return copy
}
