import { type Document, isMap, isSeq, parseDocument, type YAMLMap } from 'yaml'

// A feed file, edited as a document: what is not touched stays as it was written, comments too.

export interface TableEntry {
  index: number
  table: string
  pattern: boolean
  /** It is a query at the source, and no table there. */
  query: boolean
  find: string
  keep: string
  where: string
  /** What is said of columns; those of the list drop are among them. */
  columns: Record<string, unknown>
  /** The only columns that are brought; all, where it is empty. */
  only: string[]
  /** Columns that are made of others, by name. */
  computed: Record<string, Computed>
  /** The column that tells what is new, where changes are found by watermark. */
  watermark: string
}

export interface Computed {
  value: string
  type?: string
}

/** What is said of a column that arrives. */
export interface Said {
  name?: string
  type?: string
  hash?: string
  mask?: string
  count?: number
  text?: string
  take?: Record<string, string | { path: string; type?: string }>
  keep?: boolean
}

export interface Schedule {
  freshness: string
  every: string
  cron: string
  zone: string
}

/** What a person chooses for a column, in one word. */
export type Treatment = (typeof treatments)[number]
export const treatments = [
  'as it is',
  'leave out',
  'hash',
  'first characters',
  'last characters',
  'year',
  'round',
  'text',
  'null',
] as const

/** What a treatment asks for besides, and with what it begins. */
export const asks: Partial<
  Record<Treatment, { key: 'hash' | 'count' | 'text'; label: string; begins: string | number }>
> = {
  hash: { key: 'hash', label: 'key', begins: 'people' },
  'first characters': { key: 'count', label: 'how many', begins: 2 },
  'last characters': { key: 'count', label: 'how many', begins: 2 },
  round: { key: 'count', label: 'to multiples of', begins: 10 },
  text: { key: 'text', label: 'text', begins: '***' },
}

/** The types that values can be stored as. */
export const types = [
  'text',
  'int16',
  'int32',
  'int64',
  'float32',
  'float64',
  'decimal(12,2)',
  'numeric',
  'bool',
  'date',
  'time',
  'timestamp',
  'timestamptz',
  'interval',
  'uuid',
  'json',
  'bytes',
]

const parse = (file: string): Document => parseDocument(file, { keepSourceTokens: false })

function entries(doc: Document): YAMLMap[] {
  const tables = doc.get('tables')
  return isSeq(tables) ? tables.items.filter(isMap) : []
}

/** A list of names of a table's entry. */
function listOf(t: YAMLMap, key: string): string[] {
  const list = t.get(key)
  return isSeq(list) ? (list.toJSON() as unknown[]).map(String) : []
}

/** Takes a name out of a list, and the list away with its last one. */
function takeOut(t: YAMLMap, key: string, name: string) {
  const at = listOf(t, key).indexOf(name)
  if (at < 0) return
  t.deleteIn([key, at])
  if (!listOf(t, key).length) t.delete(key)
}

/** What a table's entry says of a column. */
export const saidOf = (t: TableEntry | undefined, column: string): unknown =>
  t?.only.length && !t.only.includes(column) ? 'drop' : t?.columns[column]

/** The tables of a file, as far as it can be read. */
export function tablesOf(file: string): TableEntry[] {
  return entries(parse(file)).map((t, index) => {
    const text = (key: string) => String(t.get(key) ?? '')
    const fields = (key: string) => {
      const value = t.get(key)
      return isMap(value) ? (value.toJSON() as Record<string, unknown>) : {}
    }
    const computed = Object.entries(fields('computed')).map(
      ([name, of]) => [name, typeof of === 'string' ? { value: of } : (of as Computed)] as const,
    )
    const dropped = Object.fromEntries(listOf(t, 'drop').map((name) => [name, 'drop']))
    const table = text('table') || `queries.${text('name')}`
    return {
      index,
      table,
      pattern: /[*?]/.test(table),
      query: !text('table'),
      find: text('find'),
      keep: text('keep'),
      where: text('where'),
      columns: { ...dropped, ...fields('columns') },
      only: listOf(t, 'only'),
      computed: Object.fromEntries(computed),
      watermark: String(fields('watermark').column ?? ''),
    }
  })
}

function edited(file: string, edit: (doc: Document) => void): string {
  const doc = parse(file)
  edit(doc)
  return doc.toString({ lineWidth: 0, flowCollectionPadding: false })
}

/** Sets a key of tables; empty takes it out. */
export const setOfTables = (file: string, indexes: number[], key: string, value: string): string =>
  edited(file, (doc) => {
    const all = entries(doc)
    for (const index of indexes) {
      if (value) all[index]?.set(key, value)
      else all[index]?.delete(key)
    }
  })

export const setOfTable = (file: string, index: number, key: string, value: string): string =>
  setOfTables(file, [index], key, value)

/** Where a setting is in a document: of a table by its index, else of the feed. */
const whole = (doc: Document, of: number | 'feed', path: string[]): (string | number)[] | undefined => {
  if (of === 'feed') return path
  const tables = doc.get('tables')
  const entry = entries(doc)[of]
  return isSeq(tables) && entry ? ['tables', tables.items.indexOf(entry), ...path] : undefined
}

/** What a file says at a place, as it is entered: lists and labels as words. */
export function settingsOf(file: string, of: number | 'feed', paths: string[][]): (string | string[])[] {
  const doc = parse(file)
  return paths.map((path) => {
    const at = whole(doc, of, path)
    const value: unknown = at && doc.hasIn(at) ? doc.getIn(at) : undefined
    if (isSeq(value)) return (value.toJSON() as unknown[]).map(String)
    if (isMap(value)) return Object.entries(value.toJSON() as object).map(([k, v]) => `${k}=${v}`)
    return value === undefined || value === null ? '' : String(value)
  })
}

/** Sets what a file says at a place; what is empty is taken out, and so is what held nothing else. */
export const setSetting = (file: string, of: number | 'feed', path: string[], value: unknown): string =>
  edited(file, (doc) => {
    const at = whole(doc, of, path)
    if (!at) return
    const empty = value === '' || (typeof value === 'object' && value !== null && !Object.keys(value).length)
    if (!empty) return doc.setIn(at, doc.createNode(value))
    if (doc.hasIn(at)) doc.deleteIn(at)
    const above = at.slice(0, -1)
    const left = path.length > 1 ? doc.getIn(above) : undefined
    if (isMap(left) && !left.items.length) doc.deleteIn(above)
  })

/** Adds an entry of a table, and tells its index. */
export function addEntry(file: string, entry: object): [file: string, index: number] {
  let index = 0
  const more = edited(file, (doc) => {
    index = entries(doc).length
    const tables = doc.get('tables')
    if (isSeq(tables)) tables.add(doc.createNode(entry))
    else doc.set('tables', doc.createNode([entry]))
  })
  return [more, index]
}

/** Takes an entry of a table out. */
export const removeEntry = (file: string, index: number): string =>
  edited(file, (doc) => {
    const at = whole(doc, index, [])
    if (at) doc.deleteIn(at)
  })

/** Sets a key of the feed; empty takes it out. */
export const setOfFeed = (file: string, values: Partial<Schedule> & { feed?: string; warehouse?: string }): string =>
  edited(file, (doc) => {
    for (const [key, value] of Object.entries(values)) {
      if (value) doc.set(key, value)
      else doc.delete(key)
    }
  })

export function scheduleOf(file: string): Schedule {
  const doc = parse(file)
  const text = (key: string) => String(doc.get(key) ?? '')
  return { freshness: text('freshness'), every: text('every'), cron: text('cron'), zone: text('zone') }
}

/** Where a file's feed reads and writes. */
export function endsOf(file: string): { source: string; warehouse: string } {
  const doc = parse(file)
  return { source: String(doc.get('source') ?? ''), warehouse: String(doc.get('warehouse') ?? '') }
}

/** The name of a key to hash with that the file uses already. */
export const hashKeyOf = (file: string): string => /hash:\s*([\w-]+)/.exec(file)?.[1] ?? 'people'

const masks: Partial<Record<Treatment, string>> = {
  'first characters': 'keep-first',
  'last characters': 'keep-last',
  year: 'year',
  round: 'round',
  text: 'text',
  null: 'null',
}

/** What a table's entry says of a column, in one word. */
export function treatmentOf(of: unknown): Treatment {
  if (of === 'drop') return 'leave out'
  const said = (of ?? {}) as Said
  if (said.hash) return 'hash'
  return treatments.find((t) => said.mask && masks[t] === said.mask) ?? 'as it is'
}

/** What is said of a column that is treated otherwise; the rest stays as it was said. */
export function treated(file: string, of: unknown, treatment: Treatment): Said | 'drop' {
  if (treatment === 'leave out') return 'drop'
  const { name, type, take, keep } = (of === 'drop' ? {} : (of ?? {})) as Said
  const asked = asks[treatment]
  const begins = asked?.key === 'hash' ? hashKeyOf(file) : asked?.begins
  return {
    name,
    take,
    keep,
    ...(treatment === 'as it is' ? { type } : {}),
    ...(masks[treatment] ? { mask: masks[treatment] } : {}),
    ...(asked ? { [asked.key]: begins } : {}),
  }
}

export const nameOf = (of: unknown): string => String((of as Said | undefined)?.name ?? '')
export const typeOf = (of: unknown): string => String((of as Said | undefined)?.type ?? '')
export const takeOf = (of: unknown): [name: string, path: string, type: string][] =>
  Object.entries((of as Said | undefined)?.take ?? {}).map(([name, p]) =>
    typeof p === 'string' ? [name, p, ''] : [name, p.path, p.type ?? ''],
  )

/** Without what is empty. */
const full = (of: object) =>
  Object.fromEntries(
    Object.entries(of).filter(
      ([, v]) => v !== undefined && v !== '' && !(typeof v === 'object' && v !== null && !Object.keys(v).length),
    ),
  )

/** Sets what becomes of a column. */
export const setColumn = (file: string, index: number, column: string, said: Said | 'drop'): string =>
  edited(file, (doc) => {
    const t = entries(doc)[index]
    if (!t) return
    const columns = isMap(t.get('columns')) ? (t.get('columns') as YAMLMap) : undefined
    const value =
      said === 'drop'
        ? said
        : full({
            ...said,
            name: said.name === column ? '' : said.name,
            keep: said.take && Object.keys(said.take).length ? said.keep : undefined,
          })
    takeOut(t, 'drop', column)
    const only = t.get('only')
    if (said !== 'drop' && isSeq(only) && !listOf(t, 'only').includes(column)) only.add(column)
    if (value === 'drop' || Object.keys(value).length) t.setIn(['columns', column], doc.createNode(value))
    else if (columns?.has(column)) {
      columns.delete(column)
      if (!columns.items.length) t.delete('columns')
    }
  })

/** Sets the columns that a table has made of others. */
export const setComputed = (file: string, index: number, computed: Record<string, Computed>): string =>
  edited(file, (doc) => {
    const t = entries(doc)[index]
    if (!t) return
    if (Object.keys(computed).length)
      t.set(
        'computed',
        doc.createNode(Object.fromEntries(Object.entries(computed).map(([name, c]) => [name, full(c)]))),
      )
    else t.delete('computed')
  })

/** Sets the column that tells what is new; what else is said of the watermark stays. */
export const setWatermark = (file: string, index: number, column: string): string =>
  edited(file, (doc) => {
    const t = entries(doc)[index]
    if (!t) return
    if (column) t.setIn(['watermark', 'column'], column)
    else t.delete('watermark')
  })

/** A file with the tables of another one besides, and without those of some names. */
export const withTables = (file: string, more: string, without: Set<string>): string =>
  edited(file, (doc) => {
    const tables = doc.get('tables')
    if (!isSeq(tables)) return
    tables.items = tables.items.filter((t) => !isMap(t) || !without.has(String(t.get('table') ?? '')))
    for (const t of entries(parse(more))) tables.add(t)
  })

/** The pattern for all tables of a schema. */
export const patternOf = (schema: string): string =>
  (/[.*?"]/.test(schema) ? `"${schema.replaceAll('"', '""')}"` : schema) + '.*'

/** Adds a pattern for the tables of a schema that come later; those that were left out stay out. */
export const addPattern = (file: string, pattern: string, except: string[], find: string, keep: string): string =>
  edited(file, (doc) => {
    const tables = doc.get('tables')
    if (isSeq(tables))
      tables.add(doc.createNode({ table: pattern, ...(except.length ? { except } : {}), find, keep }))
  })
