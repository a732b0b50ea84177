import { describe, expect, it, vi } from 'vitest'
import { useActs } from '../src/act'

const question = { title: 'Remove', text: 'Remove it?', yes: 'Remove' }

describe('acts', () => {
  it('name what is under way, and let the page look again', async () => {
    const refresh = vi.fn(async () => {})
    const { busy, refused, act } = useActs(refresh)
    let done: (answer: { data: number }) => void = () => {}
    const under = act('prove', () => new Promise<{ data: number }>((resolve) => (done = resolve)))
    await vi.waitFor(() => expect(busy.value).toBe('prove'))
    done({ data: 7 })
    expect((await under).data).toBe(7)
    expect(busy.value).toBe('')
    expect(refused.value).toBeUndefined()
    expect(refresh).toHaveBeenCalledOnce()
  })

  it('say why one was not done, until the next one is', async () => {
    const { refused, act } = useActs()
    await act('pause', async () => ({ trouble: { what: 'The feed is held.', remedy: 'Start it.' } }))
    expect(refused.value?.what).toBe('The feed is held.')
    await act('start', async () => ({ data: 1 }))
    expect(refused.value).toBeUndefined()
  })

  it('go one at a time', async () => {
    const { act } = useActs()
    let done: (answer: object) => void = () => {}
    const first = act('run', () => new Promise<object>((resolve) => (done = resolve)))
    const second = vi.fn(async () => ({ data: 2 }))
    expect(await act('run', second)).toEqual({})
    expect(second).not.toHaveBeenCalled()
    done({})
    await first
    await act('run', second)
    expect(second).toHaveBeenCalledOnce()
  })

  it('are not done unless a person is sure', async () => {
    const call = vi.fn(async () => ({ data: 1 }))
    await useActs(undefined, async () => false).act('remove', call, question)
    expect(call).not.toHaveBeenCalled()
    await useActs(undefined, async () => true).act('remove', call, question)
    expect(call).toHaveBeenCalledOnce()
  })

  it('end also where a call fails in a way that nobody foresaw', async () => {
    const { busy, act } = useActs()
    await expect(
      act('run', async () => {
        throw new Error('odd')
      }),
    ).rejects.toThrow('odd')
    expect(busy.value).toBe('')
  })
})
