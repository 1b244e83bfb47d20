import endings from '../api/endings.json'

const endingOf = (file: File) => `.${file.name.split('.').pop()?.toLowerCase()}`
const stemOf = (name: string) => name.replace(/\.[^.]+$/, '')

/** Files by the meshes that they are: numbered ones of one name are one mesh that deforms. Others are named. */
export function meshFiles(files: File[]): { meshes: { name: string; files: File[] }[]; others: string[] } {
  const groups = new Map<string, File[]>()
  const others: string[] = []
  for (const file of files) {
    const ending = endingOf(file)
    if (!endings.meshes.includes(ending)) {
      others.push(file.name)
      continue
    }
    const numbered = stemOf(file.name).replace(/\d+$/, '#')
    const key = numbered.endsWith('#') ? numbered + ending : file.name
    groups.set(key, [...(groups.get(key) ?? []), file])
  }
  const meshes = [...groups.entries()].map(([key, own]) => {
    const stem = stemOf(own.length > 1 ? key : own[0].name)
    return { name: stem.replace(/[._-]*#$/, '').replaceAll('_', ' ') || 'Mesh', files: own }
  })
  return { meshes, others }
}
