import { api, ask, type Answer, type Proving, type Trouble } from './api'

const pause = (ms: number) => new Promise((then) => setTimeout(then, ms))

/** Why a proof or a repair has come to nothing; nothing where it was done. */
export function troubleOf(p: Proving): Trouble | undefined {
  if (p.state === 'failed' && p.problem) return { what: p.problem.what, remedy: p.problem.remedy }
  if (p.state === 'stopped') return { what: `The ${p.repair ? 'repair' : 'proof'} was stopped before its end.` }
}

/** Asks for a proof of a table, or a repair, and waits for its end. */
export async function prove(
  feed: string,
  table: string,
  repair = false,
  tell: (p: Proving) => void = () => {},
  since = '',
): Promise<Answer<Proving>> {
  const { data, trouble } = await ask(
    api.POST('/api/v1/feeds/{name}/proofs', {
      params: { path: { name: feed }, query: { table } },
      body: { repair, since },
    }),
  )
  if (!data) return { trouble }
  let now = data
  for (let wait = 150; now.state === 'waiting' || now.state === 'running'; wait = Math.min(2 * wait, 1000)) {
    tell(now)
    await pause(wait)
    const answer = await ask(api.GET('/api/v1/proofs/{id}', { params: { path: { id: now.id } } }))
    if (!answer.data) return { trouble: answer.trouble }
    now = answer.data
  }
  tell(now)
  return { data: now, trouble: troubleOf(now) }
}
