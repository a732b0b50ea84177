import { type Document, isMap, isSeq, parseDocument, type YAMLMap } from 'yaml'

// A feed file, edited as a document: what is not touched stays as it was written, comments too.

export interface TableEntry {
  index: number
  table: string
  pattern: boolean
  find: string
  keep: string
  where: string
  /** What is said of columns; those of the list drop are among them. */
  columns: Record<string, unknown>
  /** The only columns that are brought; all, where it is empty. */
  only: string[]
}

export interface Schedule {
  freshness: string
  every: string
  cron: string
  zone: string
}

/** What a person chooses for a column, in one word; as-is is nothing. */
export type Treatment = 'as it is' | 'as the file has it' | 'leave out' | 'hash' | 'first characters' | 'last characters' | 'year' | 'null'

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
export const saidOf = (t: TableEntry | undefined, column: string): unknown => (t?.only.length && !t.only.includes(column) ? 'drop' : t?.columns[column])

/** The tables of a file, as far as it can be read. */
export function tablesOf(file: string): TableEntry[] {
  return entries(parse(file)).map((t, index) => {
    const text = (key: string) => String(t.get(key) ?? '')
    const columns = t.get('columns')
    const dropped = Object.fromEntries(listOf(t, 'drop').map((name) => [name, 'drop']))
    const table = text('table') || `queries.${text('name')}`
    return { index, table, pattern: table.includes('*'), find: text('find'), keep: text('keep'), where: text('where'), columns: { ...dropped, ...(isMap(columns) ? (columns.toJSON() as Record<string, unknown>) : {}) }, only: listOf(t, 'only') }
  })
}

function edited(file: string, edit: (doc: Document) => void): string {
  const doc = parse(file)
  edit(doc)
  return doc.toString({ lineWidth: 0 })
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

export const setOfTable = (file: string, index: number, key: string, value: string): string => setOfTables(file, [index], key, value)

/** Sets a key of the feed; empty takes it out. */
export const setOfFeed = (file: string, values: Partial<Schedule> & { feed?: string }): string =>
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

/** The name of a key to hash with that the file uses already. */
export const hashKeyOf = (file: string): string => /hash:\s*([\w-]+)/.exec(file)?.[1] ?? 'people'

const made: Record<Exclude<Treatment, 'as it is' | 'as the file has it' | 'leave out'>, (key: string) => Record<string, unknown>> = {
  hash: (key) => ({ hash: key }),
  'first characters': () => ({ mask: 'keep-first', count: 2 }),
  'last characters': () => ({ mask: 'keep-last', count: 2 }),
  year: () => ({ mask: 'year' }),
  null: () => ({ mask: 'null' }),
}

/** What a table's entry says of a column. */
export function treatmentOf(of: unknown): Treatment {
  if (of === 'drop') return 'leave out'
  const x = (of ?? {}) as Record<string, unknown>
  if (x.hash) return 'hash'
  if (x.mask === 'keep-first') return 'first characters'
  if (x.mask === 'keep-last') return 'last characters'
  if (x.mask === 'year') return 'year'
  if (x.mask === 'null') return 'null'
  if (x.mask) return 'as the file has it'
  return 'as it is'
}

export const nameOf = (of: unknown): string => String((of as { name?: string } | undefined)?.name ?? '')
export const typeOf = (of: unknown): string => String((of as { type?: string } | undefined)?.type ?? '')

/** Sets what becomes of a column: its treatment, its name and its type. What else is said of it stays. */
export const setColumn = (file: string, index: number, column: string, to: { treatment: Treatment; name: string; type: string }): string =>
  edited(file, (doc) => {
    const t = entries(doc)[index]
    if (!t) return
    const columns = isMap(t.get('columns')) ? (t.get('columns') as YAMLMap) : undefined
    const before = columns?.get(column)
    const rest = isMap(before) ? (before.toJSON() as Record<string, unknown>) : {}
    delete rest.name
    delete rest.type
    let value: unknown = 'drop'
    if (to.treatment !== 'leave out') {
      if (to.treatment !== treatmentOf(isMap(before) ? before.toJSON() : before)) {
        for (const key of ['hash', 'mask', 'count', 'text']) delete rest[key]
        if (to.treatment in made) Object.assign(rest, made[to.treatment as keyof typeof made](hashKeyOf(file)))
      }
      const shaped = { ...rest, ...(to.name && to.name !== column ? { name: to.name } : {}), ...(to.type && to.treatment === 'as it is' ? { type: to.type } : {}) }
      value = Object.keys(shaped).length ? shaped : undefined
    }
    takeOut(t, 'drop', column)
    const only = t.get('only')
    if (to.treatment !== 'leave out' && isSeq(only) && !listOf(t, 'only').includes(column)) only.add(column)
    if (value !== undefined) t.setIn(['columns', column], doc.createNode(value))
    else if (columns?.has(column)) {
      columns.delete(column)
      if (!columns.items.length) t.delete('columns')
    }
  })

/** The pattern for all tables of a schema. */
export const patternOf = (schema: string): string => (/[.*?"]/.test(schema) ? `"${schema.replaceAll('"', '""')}"` : schema) + '.*'

/** Adds a pattern for the tables of a schema that come later; those that were left out stay out. */
export const addPattern = (file: string, pattern: string, except: string[], find: string, keep: string): string =>
  edited(file, (doc) => {
    const tables = doc.get('tables')
    if (isSeq(tables)) tables.add(doc.createNode({ table: pattern, ...(except.length ? { except } : {}), find, keep }))
  })
