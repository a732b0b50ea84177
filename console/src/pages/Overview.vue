<script setup lang="ts">
import { ElButton, ElInput, ElSkeleton } from 'element-plus'
import { computed, ref } from 'vue'
import { api, ask, type FeedStatus, type TableStatus, type Trouble } from '../api'
import { useLive } from '../live'
import FeedFile from '../parts/FeedFile.vue'
import State from '../parts/State.vue'
import TablesList from '../parts/TablesList.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import { ago, count, labelsOf, plural, useNow } from '../words'

const all = ref<FeedStatus[]>()
const only = ref('')
const saysOf = (f: FeedStatus) => [f.name, f.source, f.warehouse, f.owner, f.team, f.state, ...labelsOf(f.labels)].filter(Boolean).join('\n').toLowerCase()
/** Those that each word of the filter is found in. */
const feeds = computed(() => all.value?.filter((f) => only.value.toLowerCase().split(/\s+/).every((word) => saysOf(f).includes(word))))
const wrong = ref<Trouble>()
const now = useNow()
const writing = ref(false)

const refresh = useLive(async () => {
  const { data, trouble } = await ask(api.GET('/api/v1/feeds'))
  if (data) all.value = data
  wrong.value = trouble
})

const tables = computed(() => (feeds.value ?? []).flatMap((f) => f.tables))

/** Tables of one feed that have the same problem, together: one cause is told once. */
function sameCause(failing: TableStatus[]): TableStatus[][] {
  const groups = new Map<string, TableStatus[]>()
  for (const t of failing) {
    const cause = JSON.stringify([t.feed, t.problem?.what, t.problem?.remedy])
    groups.set(cause, [...(groups.get(cause) ?? []), t])
  }
  return [...groups.values()]
}

/** What needs a person, the worst first. */
const needs = computed(() => {
  const of = (t: TableStatus, why: string) => ({ key: [why, t.feed, t.table].join('\n'), feed: t.feed, table: t.table, more: 0 })
  const failing = sameCause(tables.value.filter((t) => t.problem)).map((g) => ({ ...of(g[0]!, 'fails'), more: g.length - 1, warn: false, trouble: { what: g[0]!.problem!.what, remedy: g[0]!.problem!.remedy } }))
  // What an earlier run failed of is past once another one goes on.
  const runs = (feeds.value ?? [])
    .filter((f) => f.last_run?.state === 'failed' && f.last_run.problem && !f.running && !f.tables.some((t) => t.problem))
    .map((f) => ({ key: `failed\n${f.name}`, feed: f.name, table: '', more: 0, warn: false, trouble: { what: f.last_run!.problem!.what, remedy: f.last_run!.problem!.remedy } }))
  const waiting = (feeds.value ?? [])
    .filter((f) => f.last_run?.state === 'waited' && f.last_run.problem && f.state === 'active')
    .map((f) => ({ key: `waits\n${f.name}`, feed: f.name, table: '', more: 0, warn: true, trouble: { what: f.last_run!.problem!.what, remedy: f.last_run!.problem!.remedy } }))
  const held = (feeds.value ?? []).filter((f) => f.held).map((f) => ({ key: `held\n${f.name}`, feed: f.name, table: '', more: 0, warn: false, trouble: { what: f.held!.what, remedy: f.held!.remedy } }))
  const unequal = tables.value.filter((t) => t.proof && !t.proof.same).map((t) => ({ ...of(t, 'unequal'), warn: false, trouble: { what: `The last proof found ${plural(t.proof!.differing + t.proof!.missing + t.proof!.extra, 'difference')}.`, remedy: t.proof!.examples[0] } }))
  const nulls = tables.value.filter((t) => t.nulls > 0).map((t) => ({ ...of(t, 'nulls'), warn: true, trouble: { what: `${plural(t.nulls, 'row')} with a null watermark: not replicated.`, remedy: 'Name a fallback column in the feed to include them.' } }))
  const late = tables.value.filter((t) => t.state === 'behind').map((t) => ({ ...of(t, 'late'), warn: true, trouble: { what: `No run has come for ${ago(t.last_run_at, now.value).replace(' ago', '')}.`, remedy: 'Look at the feed’s runs.' } }))
  return [...held, ...runs, ...failing, ...unequal, ...waiting, ...late, ...nulls]
})

const verdict = computed(() => {
  if (!feeds.value) return ''
  if (all.value?.length === 0) return 'No feed yet'
  if (feeds.value.length === 0) return 'No feed is like that'
  const bad = new Set(needs.value.filter((n) => !n.warn).map((n) => n.key)).size
  if (bad > 0) return `${plural(bad, 'thing')} ${bad === 1 ? 'needs' : 'need'} you`
  const waiting = tables.value.filter((t) => t.state === 'waiting').length
  if (waiting > 0) return `${waiting} of ${plural(tables.value.length, 'table')} ${waiting === 1 ? 'waits' : 'wait'} for a first run`
  const paused = feeds.value.filter((f) => f.state === 'paused').length
  if (paused > 0) return `${paused} of ${plural(feeds.value.length, 'feed')} ${paused === 1 ? 'is' : 'are'} paused`
  return needs.value.length > 0 ? 'All tables are kept; see the notes below' : 'All is well'
})
const rows = computed(() => tables.value.reduce((sum, t) => sum + (t.rows ?? 0), 0))
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>{{ verdict }}</h1>
        <div v-if="feeds?.length" class="quiet">{{ plural(tables.length, 'table') }} of {{ plural(feeds.length, 'feed') }}, {{ count(rows) }} rows in warehouses</div>
      </div>
      <span class="grow"></span>
      <ElInput v-if="(all?.length ?? 0) > 3" v-model="only" clearable class="only" placeholder="Name, owner, label, source…" aria-label="Show only feeds with" />
      <ElButton @click="writing = true">Apply a feed file…</ElButton>
      <ElButton type="primary" @click="$router.push('/set-up')">Set up a feed…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <ElSkeleton v-if="!feeds && !wrong" :rows="6" animated />
    <div v-for="n in needs" :key="n.key">
      <TroubleBox :trouble="n.trouble" :warn="n.warn">
        <RouterLink :to="n.table ? { path: `/feeds/${n.feed}/table`, query: { name: n.table } } : `/feeds/${n.feed}`"><strong>{{ n.feed }}{{ n.table ? ' / ' + n.table : '' }}</strong></RouterLink>{{ n.more ? ` and ${plural(n.more, 'more table')} ` : ' ' }}
      </TroubleBox>
    </div>
    <section v-if="all?.length === 0" class="sheet pad">
      <p>A feed keeps tables of a source in a warehouse. To make the first one:</p>
      <ol>
        <li>connect a source, the database to read, and a warehouse, the database to write;</li>
        <li>choose tables, and what becomes of them on their way;</li>
        <li>check what was found, and start.</li>
      </ol>
      <ElButton type="primary" @click="$router.push('/set-up')">Set up the first feed…</ElButton>
    </section>
    <section v-for="f in feeds" :key="f.name" class="sheet" :aria-label="`Feed ${f.name}`">
      <header>
        <h2><RouterLink :to="`/feeds/${f.name}`">{{ f.name }}</RouterLink></h2>
        <span class="quiet">{{ f.source }} → {{ f.warehouse }}</span>
        <span v-if="f.owner || f.team" class="quiet">{{ [f.owner, f.team].filter(Boolean).join(', ') }}</span>
        <span v-for="l in labelsOf(f.labels)" :key="l" class="label">{{ l }}</span>
        <span class="grow"></span>
        <span class="quiet">{{ f.schedule }}<template v-if="f.state === 'active' && f.next_run_at && !f.running">, next {{ ago(f.next_run_at, now) }}</template></span>
        <State :state="f.running ? (f.log ? 'following' : 'running') : f.state" />
      </header>
      <TablesList :tables="f.tables" :now="now" />
    </section>
    <FeedFile v-model="writing" @applied="refresh" />
  </div>
</template>

