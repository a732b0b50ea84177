import type { TableEntry } from './feedfile'

// What a feed file can say of a feed and of a table besides what has a form of its own: where it stands in the file,
// what it means, and how it is entered.

export interface Setting {
  /** Where it is, such as watermark, settle. */
  path: string[]
  label: string
  /** What it means, in half a sentence. */
  means: string
  /** What counts where nothing is entered. */
  empty?: string
  /** One of these. */
  words?: readonly string[]
  /** Any of these, or what is written besides. */
  list?: readonly string[] | true
  /** Words with values, as region=north. */
  labels?: true
  /** Several lines, such as a query. */
  lines?: true
  /** A whole number. */
  number?: true
}

export interface Group {
  title: string
  settings: Setting[]
}

const drift: Group = {
  title: 'When the structure changes at the source',
  settings: [
    {
      path: ['drift', 'columns'],
      label: 'Columns',
      means: 'that come, go or move',
      words: ['follow', 'hold', 'ignore'],
    },
    { path: ['drift', 'types'], label: 'Types', means: 'of columns that change theirs', words: ['follow', 'hold'] },
    { path: ['drift', 'keys'], label: 'Keys', means: 'of tables that change theirs', words: ['follow', 'hold'] },
    { path: ['drift', 'tables'], label: 'Tables', means: 'that are replaced', words: ['follow', 'hold'] },
    {
      path: ['drift', 'hash_new'],
      label: 'Hash what is new',
      means: 'the key that later columns are hashed with, until the feed names them',
      empty: 'they arrive as they are',
    },
  ],
}

const driftOf = (empty: string): Group => ({
  ...drift,
  settings: drift.settings.map((s) => ({ empty, ...s })),
})

export const feedGroups: Group[] = [
  {
    title: 'Whose it is',
    settings: [
      { path: ['owner'], label: 'Owner', means: 'who answers for it' },
      { path: ['team'], label: 'Team', means: 'that it is of' },
      { path: ['labels'], label: 'Labels', means: 'words to find it by, as region=north', labels: true },
    ],
  },
  {
    title: 'Names in the warehouse',
    settings: [
      {
        path: ['target'],
        label: 'Targets',
        means: 'their names, with {source}, {schema} and {table} filled in',
        empty: '{schema}.{table}',
      },
      { path: ['prefix'], label: 'Prefix', means: 'of the columns that are added', empty: 'nm_' },
    ],
  },
  {
    title: 'Proof and log',
    settings: [
      {
        path: ['prove'],
        label: 'Prove',
        means: 'each table at least every so often, as 1d',
        empty: 'when asked for',
      },
      {
        path: ['retain', 'warn'],
        label: 'Warn above',
        means: 'so much log that the source keeps for it',
        empty: '1GB',
      },
      {
        path: ['retain', 'stop'],
        label: 'Let go above',
        means: 'so much log; then its tables must be copied again',
        empty: 'never',
      },
      {
        path: ['retain', 'behind'],
        label: 'Keep the log for',
        means: 'so much longer than it is needed, as 6h: so far the position can be set back',
        empty: 'no longer',
      },
    ],
  },
  driftOf('hold'),
]

/** The settings that an entry of a table can have, as it is now. */
export function tableGroups(t: TableEntry, columns: string[]): Group[] {
  const groups: Group[] = []
  if (t.query)
    groups.push({
      title: 'The query',
      settings: [
        { path: ['name'], label: 'Name', means: 'what it is called here' },
        { path: ['query'], label: 'Query', means: 'a SELECT at the source', lines: true },
      ],
    })
  if (t.pattern)
    groups.push({
      title: 'The pattern',
      settings: [
        { path: ['table'], label: 'Tables', means: 'whose names are like this; * stands for any characters' },
        { path: ['except'], label: 'Except', means: 'these tables, or patterns', list: true },
      ],
    })
  groups.push({
    title: 'Rows',
    settings: [
      {
        path: ['key'],
        label: 'Key',
        means: 'the columns that tell rows apart',
        empty: t.query ? 'must be given' : 'the primary key, or a unique key without nulls',
        list: columns,
      },
      ...(t.pattern || t.query
        ? [{ path: ['where'], label: 'Filter', means: 'only rows of which this holds', empty: 'all rows' }]
        : []),
      {
        path: ['page_rows'],
        label: 'Rows of a page',
        means: 'that one query reads at most',
        empty: '5000000',
        number: true,
      },
      ...(t.find === 'log'
        ? [
            {
              path: ['changes'],
              label: 'Changes',
              means: 'the kinds that are applied',
              empty: 'all',
              list: ['insert', 'update', 'delete', 'truncate'],
            },
          ]
        : []),
    ],
  })
  if (t.find === 'watermark')
    groups.push({
      title: 'The watermark',
      settings: [
        { path: ['watermark', 'column'], label: 'Column', means: 'that rises', empty: 'must be given' },
        {
          path: ['watermark', 'fallback'],
          label: 'Where it is null',
          means: 'the column that counts instead',
          empty: 'such rows are not replicated',
        },
        { path: ['watermark', 'start'], label: 'Begin at', means: 'beginning, now, or a value', empty: 'beginning' },
        { path: ['watermark', 'settle'], label: 'Stay behind', means: "the source's clock by", empty: '2s' },
        { path: ['watermark', 'wait'], label: 'Wait', means: 'for open transactions at most', empty: '5s' },
        { path: ['watermark', 'look_back'], label: 'Look back', means: 'below the position by, as 15m', empty: '0' },
        { path: ['watermark', 'zone'], label: 'Zone', means: 'of times that have none', empty: "the source's own" },
        {
          path: ['sweep'],
          label: 'Sweep',
          means: 'keys are compared every so often, to find deletes',
          empty: 'never',
        },
      ],
    })
  groups.push({
    title: 'In the warehouse',
    settings: [
      ...(t.pattern
        ? []
        : [
            {
              path: ['target'],
              label: 'Target',
              means: 'its name there, as schema.table',
              empty: "by the feed's names",
            },
          ]),
      {
        path: ['partition'],
        label: 'Divided by',
        means: 'what files are divided by, in a lake: month(c), bucket(16, c)',
        empty: 'nothing',
        list: true,
      },
      { path: ['as_text'], label: 'As text', means: 'columns stored in the form the source prints', list: columns },
    ],
  })
  groups.push(driftOf('as the feed has it'))
  return groups
}
