import { expect, test } from 'vitest'
import { addPattern, patternOf, saidOf, scheduleOf, setColumn, setOfFeed, setOfTable, tablesOf, treatmentOf } from '../src/feedfile'

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
  expect(changed).toBe(file.replace('keep: latest', 'keep: history').replace('{table: "public.tmp_*", find: whole, keep: replace}', '{ table: "public.tmp_*", find: whole, keep: replace }').replace('{hash: readers}', '{ hash: readers }').replace('{take: {city: $.city}, keep: false}', '{ take: { city: $.city }, keep: false }'))
  expect(tablesOf(setOfTable(file, 0, 'where', 'branch == "Grünau"'))[0]!.where).toBe('branch == "Grünau"')
  expect(setOfTable(setOfTable(file, 0, 'where', 'x'), 0, 'where', '')).not.toContain('where')
})

test('columns are treated, renamed and left as they are', () => {
  const to = (column: string, treatment: Parameters<typeof setColumn>[3]['treatment'], name = '', type = '') => tablesOf(setColumn(file, 0, column, { treatment, name, type }))[0]!.columns
  expect(to('due', 'hash').due).toEqual({ hash: 'readers' })
  expect(to('due', 'leave out').due).toBe('drop')
  expect(to('due', 'as it is', 'due_on').due).toEqual({ name: 'due_on' })
  expect(to('due', 'as it is', '', 'text').due).toEqual({ type: 'text' })
  expect(to('due', 'last characters', 'due_on').due).toEqual({ mask: 'keep-last', count: 2, name: 'due_on' })
  expect(to('note', 'as it is')).not.toHaveProperty('note')
  expect(to('place', 'as it is').place).toEqual({ take: { city: '$.city' }, keep: false })
  const round = setColumn(file, 0, 'fee', { treatment: 'as it is', name: '', type: '' }).replace('note: drop', 'note: {mask: round, count: 10}')
  expect(treatmentOf(tablesOf(round)[0]!.columns.note)).toBe('as the file has it')
  expect(tablesOf(setColumn(round, 0, 'note', { treatment: 'as the file has it', name: 'remark', type: '' }))[0]!.columns.note).toEqual({ mask: 'round', count: 10, name: 'remark' })
  const bare = setColumn('tables:\n  - table: a.b\n', 0, 'x', { treatment: 'leave out', name: '', type: '' })
  expect(tablesOf(setColumn(bare, 0, 'x', { treatment: 'as it is', name: '', type: '' }))[0]!.columns).toEqual({})
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
  const asIs = { treatment: 'as it is' as const, name: '', type: '' }
  const kept = setColumn(listed, 0, 'card', asIs)
  expect(treatmentOf(saidOf(tablesOf(kept)[0], 'card'))).toBe('as it is')
  expect(treatmentOf(saidOf(tablesOf(kept)[0], 'pin'))).toBe('leave out')
  expect(setColumn(kept, 0, 'pin', asIs)).not.toContain('drop')
  expect(tablesOf(setColumn(listed, 0, 'card', { ...asIs, treatment: 'hash' }))[0]!.columns).toEqual({ pin: 'drop', card: { hash: 'people' } })
  expect(tablesOf(setColumn(listed, 1, 'card', asIs))[1]!.only).toEqual(['id', 'branch', 'card'])
})

test('the pattern of a schema', () => {
  expect(patternOf('public')).toBe('public.*')
  expect(patternOf('of.old')).toBe('"of.old".*')
})

test('the schedule, and a pattern for what comes later', () => {
  expect(scheduleOf(setOfFeed(file, { freshness: '', cron: '0 6 * * *', zone: 'Europe/Vienna' }))).toEqual({ freshness: '', every: '', cron: '0 6 * * *', zone: 'Europe/Vienna' })
  expect(tablesOf(addPattern(file, 'public.*', ['public.audit'], 'log', 'latest')).at(-1)).toMatchObject({ table: 'public.*', pattern: true })
})
