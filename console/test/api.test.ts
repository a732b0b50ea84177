import { afterEach, describe, expect, it, vi } from 'vitest'
import { api, ask, sessionLost, whenLost } from '../src/api'

/** The service, for one answer. */
function answers(status: number, body: unknown) {
  const headers = { 'Content-Type': status < 400 ? 'application/json' : 'application/problem+json' }
  vi.stubGlobal('fetch', async () => new Response(status === 204 ? null : JSON.stringify(body), { status, headers }))
}

// openapi-fetch reads fetch when the client is made, so each call is told of it.
const called = { fetch: (request: Request) => globalThis.fetch(request), baseUrl: 'http://127.0.0.1' }
const path = { name: 'circulation' }

afterEach(() => {
  vi.unstubAllGlobals()
  whenLost(() => {})
})

describe('calls of the API', () => {
  it('give the data', async () => {
    answers(200, { version: '1', sources: ['postgresql'], warehouses: [] })
    expect((await ask(api.GET('/api/v1/about', called))).data?.sources).toEqual(['postgresql'])
  })

  it('give the two sentences of a problem', async () => {
    answers(404, { detail: 'There is no feed circulation.', remedy: 'Check the name.' })
    const { trouble } = await ask(api.GET('/api/v1/feeds/{name}', { params: { path }, ...called }))
    expect(trouble).toEqual({ what: 'There is no feed circulation.', remedy: 'Check the name.' })
  })

  it('say that the service does not answer', async () => {
    vi.stubGlobal('fetch', async () => {
      throw new TypeError('failed to fetch')
    })
    const { trouble } = await ask(api.GET('/api/v1/about', called))
    expect(trouble?.what).toBe('The service does not answer.')
  })

  it('react to a lost session in one way, and not to a sign-in that fails', async () => {
    const lost = vi.fn()
    whenLost(lost)
    answers(401, { detail: 'You are not signed in.' })
    await ask(api.GET('/api/v1/session', called))
    expect(lost).not.toHaveBeenCalled()
    await ask(api.GET('/api/v1/feeds', called))
    expect(lost).toHaveBeenCalledOnce()
    sessionLost()
    expect(lost).toHaveBeenCalledTimes(2)
  })
})
