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

/** What went wrong, in the two sentences that the API gives. */
export interface Trouble {
  what: string
  remedy?: string
}

/** Turns an answer of the API that is not a success into what to show. */
export function trouble(error: unknown): Trouble {
  const e = error as { detail?: string; remedy?: string } | undefined
  return { what: e?.detail ?? 'The service does not answer.', remedy: e?.detail ? e.remedy : 'Is it running? Try again in a moment.' }
}

/** Runs a call of the API and gives either its data or the trouble. */
export async function ask<T>(call: Promise<{ data?: T; error?: unknown }>): Promise<{ data?: T; trouble?: Trouble }> {
  try {
    const { data, error } = await call
    return error === undefined ? { data } : { trouble: trouble(error) }
  } catch {
    return { trouble: trouble(undefined) }
  }
}
