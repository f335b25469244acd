/** The walks of docs/jobs, by what their file is called; each is fetched when it is read. */
const files = import.meta.glob<string>('../../../../docs/jobs/*.md', { query: '?raw', import: 'default' })

export const pages = Object.fromEntries(Object.entries(files).map(([path, load]) => [path.replace(/^.*\//, '').replace(/\.md$/, ''), load]))

/** Where a job is walked: on the stand-in system, or on Debian where that is all there is. */
export function walkOf(job: number): string {
  const name = String(job).padStart(2, '0')
  return `/help/${name in pages ? name : `${name}-debian`}`
}
