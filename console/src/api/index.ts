import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export const api = createClient<paths>({ baseUrl: '' })

export type Schemas = components['schemas']
export type FeedStatus = Schemas['FeedStatus']
export type TableStatus = Schemas['TableStatus']
export type Run = Schemas['Run']
export type RunTable = Schemas['RunTable']
export type Statement = Schemas['Statement']
export type Connection = Schemas['Connection']
export type Books = Schemas['Books']
export type Finding = Schemas['Finding']
export type Applied = Schemas['Applied']
export type Sample = Schemas['Sample']
export type Preview = Schemas['Preview']
export type Backfill = Schemas['Backfill']
export type Proving = Schemas['Proving']
export type Proposed = Schemas['Proposed']
export type Taken = Schemas['Taken']
export type Offer = Schemas['Offer']
export type LiveEvent = Schemas['Event']
export type DerivedSet = Schemas['DerivedSet']
export type DerivedTable = Schemas['DerivedTable']
export type Derivation = Schemas['Derivation']

/** A column of an answer: its name, the warehouse's word for its type, and that of feed files. */
export interface AnsweredColumn {
  name: string
  type: string
  kind: string
}

/** What a warehouse answered: values as text, null for none. It is streamed, so the API describes it by its format. */
export interface Answered {
  columns: AnsweredColumn[]
  rows: (string | null)[][]
  /** Whether there are rows that were not asked for. */
  more: boolean
}

let lost = () => {}

/** Says what is to be done when the service knows the session no more. */
export function whenLost(then: () => void) {
  lost = then
}

/** The one reaction to a lost session, whatever noticed it. */
export const sessionLost = () => lost()

api.use({
  onResponse({ response, schemaPath }) {
    if (response.status === 401 && schemaPath !== '/api/v1/session') lost()
  },
})

/** What went wrong, in the two sentences that the API gives. */
export interface Trouble {
  what: string
  remedy?: string
  /** The setting that is to be corrected, such as tunnel.0.user. */
  field?: string
  /** What the setting may be set to, once a person has made sure of it. */
  value?: string
  /** Of a test: the steps that were taken. */
  steps?: Taken[]
  /** What is wrong item by item, each after where it is. */
  items?: string[]
}

/** Turns an answer of the API that is not a success into what to show. */
export function trouble(error: unknown): Trouble {
  const e = error as Partial<Schemas['ProblemDetails']> | undefined
  if (!e?.detail) return { what: 'The service does not answer.', remedy: 'Is it running? Try again in a moment.' }
  return {
    what: e.detail,
    remedy: e.remedy,
    field: e.field,
    value: e.value,
    steps: e.steps,
    items: e.errors ?? undefined,
  }
}

/** What came of a call: its data, or the trouble. */
export interface Answer<T = unknown> {
  data?: T
  trouble?: Trouble
}

/** Runs a call of the API. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<Answer<T>> {
  try {
    const { data, error } = await call
    return error === undefined ? { data } : { trouble: trouble(error) }
  } catch {
    return { trouble: trouble(undefined) }
  }
}
