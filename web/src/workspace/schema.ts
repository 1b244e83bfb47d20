import schema from '../api/scene-schema.json'

/* eslint-disable @typescript-eslint/no-explicit-any -- JSON schema is data */
type Json = Record<string, any>

export interface Setting {
  path: (string | number)[]
  name: string
  title: string
  meaning: string
  /** in time, memory or disk; nothing where it costs none */
  cost: string
  unit: string
  group: string
  kind: 'number' | 'integer' | 'vector' | 'choice' | 'text' | 'part' | 'switch' | 'list'
  nullable: boolean
  control: string
  keyed: boolean
  choices: string[]
  slider: [number, number] | null
  log: boolean
  initial: unknown
  /** settings beside it, and the choices under which this one counts */
  when: Record<string, string[]>
  /** definition of the items of a list */
  items: string
}

type Path = (string | number)[]
const defs = (schema as Json).$defs as Json

function resolved(node: Json): Json {
  if (node.$ref) return { ...defs[String(node.$ref).split('/').pop()!], ...node, $ref: undefined }
  return node
}

function kindOf(node: Json): Setting['kind'] | null {
  const n = resolved(node)
  if (n.enum) return 'choice'
  if (n.type === 'boolean') return 'switch'
  if (n.type === 'number') return 'number'
  if (n.type === 'integer') return 'integer'
  if (n.type === 'string') return 'text'
  if (n.type === 'array' && n.prefixItems) return 'vector'
  if (n.type === 'array' && n.items?.$ref) return 'list'
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
      cost: String(zinc.cost ?? ''),
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
      when: (zinc.when as Record<string, string[]>) ?? {},
      items: String(resolved(raw as Json).items?.$ref ?? '')
        .split('/')
        .pop()!,
    })
  }
  return found
}

function sentence(words: string): string {
  const lower = words.replaceAll('_', ' ').toLowerCase()
  return lower.charAt(0).toUpperCase() + lower.slice(1)
}

/** One of the scene's own settings. */
export function settingsOfScene(name: string): Setting[] {
  defs.Scene = { properties: (schema as Json).properties }
  return settingsOf('Scene', []).filter((s) => s.path[0] === name)
}

/** Names of definitions by the `kind` that tells them apart, as the schema lists them. */
function kindsOf(node: Json): Json {
  const mapping = (node.discriminator?.mapping ?? {}) as Json
  return Object.fromEntries(
    Object.entries(mapping).map(([kind, ref]) => [kind, String(ref).split('/').pop()]),
  )
}
const KINDS = kindsOf((schema as Json).properties.elements.items)

/** A part of several kinds: which one, and the settings of the one that it is. */
function choiceOf(
  fields: Json,
  name: string,
  title: string,
  group: string,
  at: Path,
  owner: Json,
): Setting[] {
  if (!fields[name]) return []
  const kinds = Object.keys(kindsOf(fields[name]))
  return [
    {
      path: [...at, name],
      name,
      title,
      meaning: String(fields[name].description),
      cost: '',
      unit: '',
      group,
      kind: 'part',
      nullable: false,
      control: '',
      keyed: false,
      choices: kinds,
      slider: null,
      log: false,
      initial: { kind: fields[name].default?.kind ?? kinds[0] },
      when: {},
      items: '',
    },
    ...partOf(fields, name, at, owner).map((s) => ({ ...s, group })),
  ]
}

/** Settings of a part of several kinds, of the one that it is. */
function partOf(fields: Json, name: string, at: Path, owner: Json): Setting[] {
  if (!fields[name]) return []
  const kinds = kindsOf(fields[name])
  const kind = owner[name]?.kind ?? fields[name].default?.kind ?? Object.keys(kinds)[0]
  return settingsOf(kinds[kind], [...at, name])
}

/** Settings of an element: its shape or effect, where it acts and is, and what it does. */
export function settingsOfElement(element: Json, index: number): Setting[] {
  const at = ['elements', index]
  const own = settingsOf(KINDS[element.kind], at).filter((s) => s.path.length === 3)
  const fields = defs[KINDS[element.kind]].properties as Json
  // the second colour and mark only where there are two
  const single = (element.paint?.kind ?? 'plain') === 'plain'
  const birth = own.filter((s) => s.group === 'At birth' && !(single && s.name.endsWith('_to')))
  return [
    ...partOf(fields, 'shape', at, element).filter((s) => s.control !== 'fine' || element.shape?.fine),
    ...partOf(fields, 'effect', at, element),
    ...choiceOf(fields, 'zone', 'Acts', 'Zone', at, element),
    ...settingsOf('Pose', [...at, 'pose']),
    ...own.filter((s) => s.group !== 'At birth'),
    ...choiceOf(fields, 'paint', 'Laid out', 'At birth', at, element),
    ...birth.filter((s) => !(element.paint?.kind === 'image' && s.control === 'colour')),
  ]
}

/** Settings of one item of a list, with those of its parts. */
export function settingsOfItem(definition: string, at: Path, item: Json): Setting[] {
  const fields = defs[definition].properties as Json
  return Object.entries(fields).flatMap(([name, raw]) =>
    (raw as Json).discriminator
      ? choiceOf(fields, name, sentence(name), definition, at, item)
      : settingsOf(definition, at).filter((s) => s.path[at.length] === name),
  )
}

/** What a new item of a list is: what its definition leaves open, amid the domain; the server fills in the rest. */
export function itemOf(definition: string, domain: Json): Json {
  const { name, centre, height, pose } = defs[definition].properties as Json
  const low = domain.low as number[]
  const size = domain.size as number[]
  const middle = low.map((l, i) => +(l + size[i] / 2).toFixed(4))
  return {
    ...(name ? { name: name.default ?? definition } : {}),
    ...(centre ? { centre: middle, size: size.map((s) => +(s / 2).toFixed(4)) } : {}),
    ...(height ? { height: middle[1] } : {}),
    ...(pose ? { pose: { translation: middle } } : {}),
  }
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

/** Whether a setting counts under the choices made beside it. */
export function counts(document: Json, setting: Setting): boolean {
  const beside = setting.path.slice(0, -1)
  return Object.entries(setting.when).every(([name, choices]) => {
    const chosen = valueAt(document, [...beside, name])
    return chosen === undefined || choices.includes(String(chosen))
  })
}

/** All settings by the part of the scene that has them, for the manual. */
export function settingTables(): { part: string; settings: Setting[] }[] {
  return Object.keys(defs)
    .filter((part) => part !== 'Scene' && part !== 'Curve' && part !== 'Key')
    .map((part) => ({ part, settings: settingsOf(part, []) }))
    .filter((t) => t.settings.length)
}
