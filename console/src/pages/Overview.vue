<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect, ElSkeleton } from 'element-plus'
import { computed, reactive, ref, watch } from 'vue'
import { api, ask, type FeedStatus, type Schemas, type Trouble } from '../api'
import { useLive } from '../live'
import FeedFile from '../parts/FeedFile.vue'
import Lag from '../parts/Lag.vue'
import State from '../parts/State.vue'
import TablesList from '../parts/TablesList.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { ago, at, count, labelsOf, plural, useNow } from '../words'

// What needs a person first, then how each feed is doing. A feed's tables are asked for when it is opened; of few
// feeds all are open.
type Summary = Schemas['FeedSummary']
const overview = ref<Schemas['Overview']>()
const wrong = ref<Trouble>()
const now = useNow()
const writing = ref(false)
const only = ref('')
const state = ref('')

const opened = reactive(new Set<string>())
const closed = reactive(new Set<string>())
const details = reactive(new Map<string, FeedStatus>())
const few = computed(() => (overview.value?.tables ?? 0) <= 40)
const isOpen = (f: string) => (few.value ? !closed.has(f) : opened.has(f))
function toggle(f: string) {
  const set = few.value ? closed : opened
  if (!set.delete(f)) set.add(f)
  void refresh()
}

const refresh = useLive(async () => {
  const { data, trouble } = await ask(api.GET('/api/v1/overview'))
  wrong.value = trouble
  if (!data) return
  overview.value = data
  const show = data.feeds.filter((f) => isOpen(f.name))
  if (few.value) {
    const all = await ask(api.GET('/api/v1/feeds'))
    for (const f of all.data ?? []) details.set(f.name, f)
  } else
    for (const f of show) {
      const one = await ask(api.GET('/api/v1/feeds/{name}', { params: { path: { name: f.name } } }))
      if (one.data) details.set(f.name, one.data)
    }
})

const saysOf = (f: Summary) =>
  [
    f.name,
    f.source,
    f.warehouse,
    f.owner,
    f.team,
    f.state,
    f.made_by,
    f.changed_by,
    ...labelsOf(f.labels),
    ...Object.keys(f.states),
  ]
    .filter(Boolean)
    .join('\n')
    .toLowerCase()
const states = [
  { value: 'needs', label: 'Needs a person', is: (f: Summary) => f.needs > 0 },
  { value: 'lagging', label: 'Behind its promise', is: (f: Summary) => f.lagging > 0 || !!f.states.behind },
  { value: 'copying', label: 'Being copied', is: (f: Summary) => !!f.states.copying || !!f.states.waiting },
  { value: 'paused', label: 'Paused', is: (f: Summary) => f.state === 'paused' },
  { value: 'active', label: 'Active', is: (f: Summary) => f.state !== 'paused' && f.state !== 'held' },
]
/** Those that each word of the filter is found in. */
const feeds = computed(() =>
  overview.value?.feeds.filter(
    (f) =>
      only.value
        .toLowerCase()
        .split(/\s+/)
        .every((word) => saysOf(f).includes(word)) &&
      (!state.value || states.find((s) => s.value === state.value)!.is(f)),
  ),
)
const names = computed(() => new Set(feeds.value?.map((f) => f.name)))
const needs = computed(
  () => overview.value?.needs.filter((n) => (n.feed ? names.value.has(n.feed) : !only.value && !state.value)) ?? [],
)
const mostNeeds = ref(12)
watch([only, state], () => (mostNeeds.value = 12))

const sum = (of: (f: Summary) => number) => feeds.value?.reduce((n, f) => n + of(f), 0) ?? 0
const verdict = computed(() => {
  if (!feeds.value) return ''
  if (overview.value?.feeds.length === 0) return 'No feed yet'
  if (feeds.value.length === 0) return 'No feed is like that'
  const bad = needs.value.filter((n) => !n.warns).length
  if (bad > 0) return `${plural(bad, 'thing')} ${bad === 1 ? 'needs' : 'need'} you`
  const tables = sum((f) => f.tables)
  const waiting = sum((f) => f.states.waiting ?? 0)
  if (waiting > 0)
    return `${waiting} of ${plural(tables, 'table')} ${waiting === 1 ? 'waits' : 'wait'} for a first run`
  const paused = feeds.value.filter((f) => f.state === 'paused').length
  if (paused > 0) return `${paused} of ${plural(feeds.value.length, 'feed')} ${paused === 1 ? 'is' : 'are'} paused`
  return needs.value.length > 0 ? 'All tables are kept; see the notes below' : 'All is well'
})

/** States of tables, those that matter most first; the usual ones show as a number alone. */
const order = ['held', 'failing', 'unequal', 'behind', 'copying', 'running', 'waiting', 'following', 'current']
const inOrder = (f: Summary) => Object.entries(f.states).sort(([a], [b]) => order.indexOf(a) - order.indexOf(b))
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>{{ verdict }}</h1>
        <div v-if="feeds?.length" class="quiet">
          {{
            plural(
              sum((f) => f.tables),
              'table',
            )
          }}
          of {{ plural(feeds.length, 'feed') }}, {{ count(sum((f) => f.rows)) }} rows in warehouses
        </div>
      </div>
      <span class="grow"></span>
      <template v-if="(overview?.feeds.length ?? 0) > 3">
        <ElInput
          v-model="only"
          clearable
          class="only"
          placeholder="Name, owner, label, source…"
          aria-label="Show only feeds with" />
        <ElSelect v-model="state" :empty-values="[null]" style="width: 170px" aria-label="Show only feeds that are">
          <ElOption value="" label="All feeds" />
          <ElOption v-for="s in states" :key="s.value" :value="s.value" :label="s.label" />
        </ElSelect>
      </template>
      <ElButton @click="writing = true">Apply a feed file…</ElButton>
      <ElButton type="primary" @click="$router.push('/set-up')">Set up a feed…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <ElSkeleton v-if="!feeds && !wrong" :rows="6" animated />
    <div v-for="(n, i) in needs.slice(0, mostNeeds)" :key="i">
      <TroubleBox :trouble="n" :warn="n.warns">
        <RouterLink
          :to="
            !n.feed
              ? { path: '/derived', query: { table: n.table } }
              : n.table
                ? { path: `/feeds/${n.feed}/table`, query: { name: n.table } }
                : `/feeds/${n.feed}`
          "
          ><strong>{{ [n.feed, n.table].filter(Boolean).join(' / ') }}</strong></RouterLink
        >{{ n.more ? ` and ${plural(n.more, 'more table')} ` : ' ' }}
      </TroubleBox>
    </div>
    <p v-if="needs.length > mostNeeds" class="pad">
      <ElButton size="small" @click="mostNeeds += 50"
        >Show {{ Math.min(50, needs.length - mostNeeds) }} more of {{ needs.length }}</ElButton
      >
    </p>
    <section v-if="overview?.feeds.length === 0" class="sheet pad">
      <p>A feed keeps tables of a source in a warehouse. To make the first one:</p>
      <ol>
        <li>connect a source, the database to read, and a warehouse, the database to write;</li>
        <li>choose tables, and what becomes of them on their way;</li>
        <li>check what was found, and start.</li>
      </ol>
      <ElButton type="primary" @click="$router.push('/set-up')">Set up the first feed…</ElButton>
    </section>
    <section v-for="f in feeds" :key="f.name" class="sheet" :aria-label="`Feed ${f.name}`">
      <header class="feed">
        <button
          type="button"
          class="turn"
          :aria-expanded="isOpen(f.name)"
          :aria-label="`Tables of ${f.name}`"
          @click="toggle(f.name)">
          {{ isOpen(f.name) ? '▾' : '▸' }}
        </button>
        <h2>
          <RouterLink :to="`/feeds/${f.name}`">{{ f.name }}</RouterLink>
        </h2>
        <State :state="f.state" />
        <span class="quiet">{{ f.source }} → {{ f.warehouse }}</span>
        <span v-for="l in labelsOf(f.labels)" :key="l" class="label">{{ l }}</span>
        <span class="grow"></span>
        <span v-if="!isOpen(f.name)" class="states"
          ><State v-for="[word, n] in inOrder(f)" :key="word" :state="word" :word="`${count(n)} ${word}`"
        /></span>
        <Lag v-if="!isOpen(f.name)" :complete-at="f.complete_at" :promised="f.promised_seconds" :now="now" />
        <span class="quiet meta"
          >{{ f.schedule
          }}<template v-if="f.state === 'active' && f.next_run_at"
            >, next {{ ago(f.next_run_at, now) }}</template
          ></span
        >
        <span class="quiet meta" :title="`made by ${f.made_by || 'nobody known'} ${at(f.made_at)}`"
          >{{ [f.owner, f.team].filter(Boolean).join(', ')
          }}<template v-if="f.changed_at"
            >{{ f.owner || f.team ? '; ' : '' }}changed by {{ f.changed_by || 'nobody known' }}
            <When :time="f.changed_at" :now="now" /></template
        ></span>
      </header>
      <TablesList v-if="isOpen(f.name) && details.get(f.name)" :tables="details.get(f.name)!.tables" :now="now" />
    </section>
    <FeedFile v-model="writing" @applied="refresh" />
  </div>
</template>

<style scoped>
.feed {
  flex-wrap: wrap;
  row-gap: 4px;
}
.turn {
  background: none;
  border: 0;
  color: var(--ink-2);
  font-size: 14px;
  cursor: pointer;
  padding: 2px 4px;
  width: 22px;
}
.states {
  display: inline-flex;
  gap: 12px;
}
.meta {
  font-size: 12px;
}
</style>
