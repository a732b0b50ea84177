import { expect, test } from 'vitest'
import {
  addEntry,
  addPattern,
  asks,
  patternOf,
  removeEntry,
  saidOf,
  scheduleOf,
  setColumn,
  setComputed,
  setOfFeed,
  setOfTable,
  setSetting,
  settingsOf,
  setWatermark,
  tablesOf,
  takeOf,
  treated,
  treatmentOf,
  treatments,
  withTables,
} from '../src/feedfile'

const file = `feed: loans
source: circulation
warehouse: lake
freshness: 1m
tables:
  # the log tells all
  - table: public.loans
    find: log
    keep: latest
    columns:
      card: {hash: readers}
      note: drop
      place: {take: {city: $.city}, keep: false}
  - {table: "public.tmp_*", find: whole, keep: replace}
`

test('the tables of a file', () => {
  const [loans, tmp] = tablesOf(file)
  expect(loans).toMatchObject({ table: 'public.loans', find: 'log', keep: 'latest', pattern: false })
  expect(treatmentOf(loans!.columns.card)).toBe('hash')
  expect(treatmentOf(loans!.columns.note)).toBe('leave out')
  expect(treatmentOf(loans!.columns.due)).toBe('as it is')
  expect(tmp!.pattern).toBe(true)
  expect(tablesOf('feed: [')).toEqual([])
})

test('what is not touched stays, comments too', () => {
  const changed = setOfTable(file, 0, 'keep', 'history')
  expect(changed).toBe(file.replace('keep: latest', 'keep: history'))
  expect(tablesOf(setOfTable(file, 0, 'where', 'branch == "Grünau"'))[0]!.where).toBe('branch == "Grünau"')
  expect(setOfTable(setOfTable(file, 0, 'where', 'x'), 0, 'where', '')).not.toContain('where')
})

test('columns are treated, renamed and left as they are', () => {
  const said = (column: string) => tablesOf(file)[0]!.columns[column]
  const to = (column: string, value: ReturnType<typeof treated>) =>
    tablesOf(setColumn(file, 0, column, value))[0]!.columns
  expect(to('due', treated(file, said('due'), 'hash')).due).toEqual({ hash: 'readers' })
  expect(to('due', 'drop').due).toBe('drop')
  expect(to('due', { name: 'due_on' }).due).toEqual({ name: 'due_on' })
  expect(to('due', { name: 'due' })).not.toHaveProperty('due')
  expect(to('due', { type: 'text', name: '' }).due).toEqual({ type: 'text' })
  expect(to('due', treated(file, { name: 'due_on', type: 'text' }, 'last characters')).due).toEqual({
    mask: 'keep-last',
    count: 2,
    name: 'due_on',
  })
  expect(to('note', treated(file, said('note'), 'as it is'))).not.toHaveProperty('note')
  expect(to('place', treated(file, said('place'), 'as it is')).place).toEqual({
    take: { city: '$.city' },
    keep: false,
  })
  expect(to('place', { take: {}, keep: false })).not.toHaveProperty('place')
  const bare = setColumn('tables:\n  - table: a.b\n', 0, 'x', 'drop')
  expect(tablesOf(setColumn(bare, 0, 'x', {}))[0]!.columns).toEqual({})
})

test('each treatment is read as it was written', () => {
  for (const treatment of treatments) {
    const written = setColumn(file, 0, 'due', treated(file, undefined, treatment))
    expect(treatmentOf(tablesOf(written)[0]!.columns.due)).toBe(treatment)
    const key = asks[treatment]?.key
    if (key) expect(tablesOf(written)[0]!.columns.due).toHaveProperty(key)
  }
})

test('values of documents, columns made of others, and the watermark', () => {
  const taken = setColumn(file, 0, 'doc', { take: { city: '$.city', floor: { path: '$.floor', type: 'int32' } } })
  expect(takeOf(tablesOf(taken)[0]!.columns.doc)).toEqual([
    ['city', '$.city', ''],
    ['floor', '$.floor', 'int32'],
  ])
  const made = setComputed(file, 0, {
    region: { value: "'north'" },
    doubled: { value: 'fee * 2', type: 'decimal(12,2)' },
  })
  expect(tablesOf(made)[0]!.computed).toEqual({
    region: { value: "'north'" },
    doubled: { value: 'fee * 2', type: 'decimal(12,2)' },
  })
  expect(setComputed(made, 0, {})).not.toContain('computed')
  expect(tablesOf('tables:\n  - {table: a.b, computed: {x: a + 1}}')[0]!.computed).toEqual({ x: { value: 'a + 1' } })
  const marked = setWatermark('tables:\n  - {table: a.b, watermark: {settle: 2s}}', 0, 'at')
  expect(marked).toContain('settle: 2s')
  expect(tablesOf(marked)[0]!.watermark).toBe('at')
  expect(setWatermark(marked, 0, '')).not.toContain('watermark')
})

test('tables come and go, and the others stay as they are', () => {
  const more = 'tables:\n  # two copies\n  - {table: public.copies, find: log, keep: latest, columns: {note: drop}}\n'
  const changed = withTables(file, more, new Set(['public.tmp_*']))
  expect(tablesOf(changed).map((t) => t.table)).toEqual(['public.loans', 'public.copies'])
  expect(changed).toContain('# the log tells all')
  expect(tablesOf(changed)[1]!.columns).toEqual({ note: 'drop' })
})

test('lists of columns say the same as the columns one by one', () => {
  const listed = `tables:
  - table: a.b
    drop:
      - card # looks like a card number
      - pin
  - {table: a.c, only: [id, branch]}
`
  const [b, c] = tablesOf(listed)
  expect(treatmentOf(saidOf(b, 'card'))).toBe('leave out')
  expect(treatmentOf(saidOf(c, 'card'))).toBe('leave out')
  expect(treatmentOf(saidOf(c, 'id'))).toBe('as it is')
  const kept = setColumn(listed, 0, 'card', {})
  expect(treatmentOf(saidOf(tablesOf(kept)[0], 'card'))).toBe('as it is')
  expect(treatmentOf(saidOf(tablesOf(kept)[0], 'pin'))).toBe('leave out')
  expect(setColumn(kept, 0, 'pin', {})).not.toContain('drop')
  expect(tablesOf(setColumn(listed, 0, 'card', treated(listed, 'drop', 'hash')))[0]!.columns).toEqual({
    pin: 'drop',
    card: { hash: 'people' },
  })
  expect(tablesOf(setColumn(listed, 1, 'card', {}))[1]!.only).toEqual(['id', 'branch', 'card'])
})

test('the pattern of a schema', () => {
  expect(patternOf('public')).toBe('public.*')
  expect(patternOf('of.old')).toBe('"of.old".*')
})

test('the schedule, and a pattern for what comes later', () => {
  expect(scheduleOf(setOfFeed(file, { freshness: '', cron: '0 6 * * *', zone: 'Europe/Vienna' }))).toEqual({
    freshness: '',
    every: '',
    cron: '0 6 * * *',
    zone: 'Europe/Vienna',
  })
  expect(tablesOf(addPattern(file, 'public.*', ['public.audit'], 'log', 'latest')).at(-1)).toMatchObject({
    table: 'public.*',
    pattern: true,
  })
})

test('settings of the feed and of a table', () => {
  const warn = setSetting(file, 'feed', ['retain', 'warn'], '2GB')
  expect(warn).toContain('retain:\n  warn: 2GB')
  expect(setSetting(warn, 'feed', ['retain', 'warn'], '')).toBe(file) // with what held nothing else
  const keyed = setSetting(setSetting(file, 0, ['key'], ['id', 'branch']), 0, ['drift', 'types'], 'follow')
  expect(settingsOf(keyed, 0, [['key'], ['drift', 'types'], ['target']])).toEqual([['id', 'branch'], 'follow', ''])
  expect(keyed).toContain('# the log tells all')
  expect(setSetting(setSetting(keyed, 0, ['key'], []), 0, ['drift', 'types'], '')).toBe(file)
  const labelled = setSetting(file, 'feed', ['labels'], { region: 'north' })
  expect(settingsOf(labelled, 'feed', [['labels']])).toEqual([['region=north']])
})

test('entries that are added and taken out', () => {
  const [more, index] = addEntry(file, {
    query: 'SELECT 1 AS one',
    name: 'ones',
    key: ['one'],
    find: 'whole',
    keep: 'replace',
  })
  expect(index).toBe(2)
  expect(tablesOf(more)[index]).toMatchObject({ table: 'queries.ones', query: true, find: 'whole' })
  expect(removeEntry(more, index)).toBe(file)
})
