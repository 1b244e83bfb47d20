import { marked } from 'marked'

const texts = import.meta.glob<string>('../../../docs/manual/*.md', {
  eager: true,
  query: '?raw',
  import: 'default',
})
const pictures = import.meta.glob<string>('../../../docs/screenshots/*.png', {
  eager: true,
  query: '?url',
  import: 'default',
})

/** A page of the manual: what its address ends with, its title, and its text as HTML. */
export interface Page {
  name: string
  title: string
  html: string
}

const nameOf = (path: string) =>
  path
    .split('/')
    .at(-1)!
    .replace(/^\d+-|\.md$/g, '')
const pictureOf = (file: string) =>
  Object.entries(pictures).find(([path]) => path.endsWith(`/${file.split('/').at(-1)}`))?.[1] ?? file

/** The pages in their order, made of the files in `docs/manual`. */
export const PAGES: Page[] = Object.entries(texts)
  .sort(([a], [b]) => a.localeCompare(b))
  .map(([path, text]) => ({
    name: nameOf(path),
    title: /^# (.*)/.exec(text)?.[1] ?? nameOf(path),
    html: (marked.parse(text, { async: false }) as string)
      .replace(/src="([^"]*\.png)"/g, (_, file: string) => `src="${pictureOf(file)}" loading="lazy"`)
      .replace(/href="(\d+-)?([\w-]+)\.md"/g, (_, __, name: string) => `href="/manual/${name}"`),
  }))
