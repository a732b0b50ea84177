import { describe, expect, it } from 'vitest'
import { ago, at, between, bytes, count, labelsFrom, labelsOf, plural, span } from '../src/words'

describe('words', () => {
  it('group a count in threes, and show that there is none', () => {
    expect(count(1234567)).toBe('1\u202f234\u202f567')
    expect(count(0)).toBe('0')
    expect(count(undefined)).toBe('–')
    expect(count(null)).toBe('–')
  })

  it('give bytes in powers of 1000', () => {
    expect(bytes(0)).toBe('0 B')
    expect(bytes(999)).toBe('999 B')
    expect(bytes(1000)).toBe('1.0 kB')
    expect(bytes(1_500_000)).toBe('1.5 MB')
    expect(bytes(2e15)).toBe('2000.0 TB')
  })

  it('give a length of time in its largest units', () => {
    expect(span(0.0123)).toBe('12 ms')
    expect(span(9.94)).toBe('9.9 s')
    expect(span(59.9)).toBe('59 s')
    expect(span(61)).toBe('1 min 1 s')
    expect(span(3700)).toBe('1 h 1 min')
    expect(span(200_000)).toBe('2 days')
  })

  it('say how long ago, or ahead, a time is', () => {
    const now = Date.parse('2026-03-01T09:00:00Z')
    expect(ago(undefined, now)).toBe('never')
    expect(ago('2026-03-01T08:59:59Z', now)).toBe('now')
    expect(ago('2026-03-01T08:59:30Z', now)).toBe('30 s ago')
    expect(ago('2026-03-01T08:00:00Z', now)).toBe('1 h 0 min ago')
    expect(ago('2026-03-01T09:00:20Z', now)).toBe('in 20 s')
  })

  it('name the zone of a time', () => {
    expect(at(undefined)).toBe('')
    expect(at('2026-03-01T09:00:00Z')).toMatch(/2026-03-01 \d\d:00:00 \S+/)
  })

  it('never run backwards', () => {
    expect(between('2026-03-01T09:00:00Z', '2026-03-01T08:00:00Z', 0)).toBe(0)
    expect(between(undefined, undefined, 0)).toBe(0)
    expect(between('2026-03-01T09:00:00Z', undefined, Date.parse('2026-03-01T09:00:05Z'))).toBe(5)
  })

  it('count nouns', () => {
    expect(plural(1, 'row')).toBe('1 row')
    expect(plural(2000, 'row')).toBe('2\u202f000 rows')
  })
})

describe('labels', () => {
  it('are read as they are shown', () => {
    const labels = labelsFrom(' region = north, kind=archive=old ,')
    expect(labels).toEqual({ region: 'north', kind: 'archive=old' })
    expect(labelsFrom(labelsOf(labels).join(', '))).toEqual(labels)
    expect(labelsFrom(' ')).toBeUndefined()
  })
})
