<script setup lang="ts">
import { ElButton, ElOption, ElSelect, ElSkeleton } from 'element-plus'
import { ref, watch } from 'vue'
import { useActs } from '../act'
import { api, ask, type Run, type Statement, type Trouble } from '../api'
import { progress, progressKey, useLive } from '../live'
import Rows from '../parts/Rows.vue'
import RunLog from '../parts/RunLog.vue'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { at, between, bytes, count, plural, span, useNow } from '../words'

const props = defineProps<{ id: number }>()
const run = ref<Run>()
const statements = ref<Statement[]>([])
const wrong = ref<Trouble>()
const only = ref('')
const pages = ref(1)
const more = ref(false)
const now = useNow()

/** How many statements show at once. */
const page = 100

const refresh = useLive(
  async () => {
    const path = { id: props.id }
    const wanted = pages.value * page
    const query = { table: only.value, limit: Math.min(wanted + 1, 1000) }
    const [r, s] = await Promise.all([
      ask(api.GET('/api/v1/runs/{id}', { params: { path } })),
      ask(api.GET('/api/v1/runs/{id}/statements', { params: { path, query } })),
    ])
    if (r.data) run.value = r.data
    if (s.data) {
      statements.value = s.data.slice(0, wanted)
      more.value = s.data.length > statements.value.length
    }
    wrong.value = r.trouble ?? s.trouble
  },
  (event) => event.run === props.id,
)
watch(only, () => (pages.value = 1))
watch([only, pages], refresh)

const { busy, refused, act } = useActs(refresh)
const stop = () => act('stop', () => ask(api.POST('/api/v1/runs/{id}/stop', { params: { path: { id: props.id } } })))

const going = (table: string) => (run.value ? progress.get(progressKey(run.value.feed, table)) : undefined)
const clock = (time: string) => new Date(time).toISOString().slice(11, 23) + 'Z'
const counters = ['read', 'filtered', 'folded', 'set_aside', 'unchanged', 'inserted', 'updated', 'deleted'] as const
/** Whether a kind of time is worth a column. */
const takes = (what: 'waiting_seconds' | 'shaping_seconds') =>
  run.value?.tables?.some((t) => t[what] >= 0.001) ?? false
const title = (name: string) => (name[0]?.toUpperCase() ?? '') + name.slice(1).replace('_', ' ')
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <div class="crumb">
          <RouterLink to="/">Overview</RouterLink> /
          <RouterLink v-if="run" :to="`/feeds/${run.feed}`">{{ run.feed }}</RouterLink> / run
        </div>
        <h1>Run {{ id }} <State v-if="run" :state="run.state" /></h1>
        <div v-if="run" class="quiet">
          started by {{ run.trigger
          }}<template v-if="run.started_at"
            >, <span :title="at(run.started_at)">{{ at(run.started_at) }}</span> (<When
              :time="run.started_at"
              :now="now" />), took {{ span(between(run.started_at, run.ended_at, now)) }}</template
          ><template v-if="run.process"
            >, in the process <span class="mono">{{ run.process }}</span></template
          >
        </div>
      </div>
      <span class="grow"></span>
      <ElButton v-if="run?.state === 'running' || run?.state === 'queued'" :loading="busy === 'stop'" @click="stop"
        >Stop</ElButton
      >
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox :trouble="refused" />
    <TroubleBox :trouble="run?.problem" />
    <ElSkeleton v-if="!run && !wrong" :rows="6" animated />
    <section v-if="run" class="sheet" aria-label="Tables">
      <header>
        <h2>Books</h2>
        <span class="quiet">read = filtered + folded + set aside + unchanged + inserted + updated + deleted</span>
      </header>
      <div class="scroll">
        <table class="rows tight">
          <thead>
            <tr>
              <th scope="col">Table</th>
              <th scope="col">State</th>
              <th v-for="c in counters" :key="c" class="n" scope="col">{{ title(c) }}</th>
              <th class="n" scope="col">Commits</th>
              <th class="n" scope="col">Size</th>
              <th
                v-if="takes('waiting_seconds')"
                class="n"
                scope="col"
                title="Time spent waiting until the source had room for the feed">
                Waiting
              </th>
              <th class="n" scope="col" title="Time spent reading the source">Reading</th>
              <th
                v-if="takes('shaping_seconds')"
                class="n"
                scope="col"
                title="Time spent shaping rows and folding changes, beside the others">
                Shaping
              </th>
              <th class="n" scope="col" title="Time spent writing the warehouse">Writing</th>
              <th scope="col">Position before → after</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in run.tables ?? []" :key="t.table">
              <td class="nowrap">
                <RouterLink :to="{ path: `/feeds/${run.feed}/table`, query: { name: t.table } }">{{
                  t.table
                }}</RouterLink>
              </td>
              <td class="nowrap">
                <State :state="t.state" />
                <span v-if="t.state === 'running' && going(t.table)?.read" class="quiet">{{
                  count(going(t.table)?.read)
                }}</span>
              </td>
              <td v-for="c in counters" :key="c" class="n" :class="{ first: c === 'read' }">
                <Rows :n="t.books[c]" />
              </td>
              <td class="n"><Rows :n="t.commits" /></td>
              <td class="n nowrap">{{ bytes(t.bytes) }}</td>
              <td v-if="takes('waiting_seconds')" class="n nowrap">{{ span(t.waiting_seconds) }}</td>
              <td class="n nowrap">{{ span(t.reading_seconds) }}</td>
              <td v-if="takes('shaping_seconds')" class="n nowrap">{{ span(t.shaping_seconds) }}</td>
              <td class="n">{{ span(t.writing_seconds) }}</td>
              <td class="mono nowrap">
                <template v-if="t.from === t.to"
                  ><span class="quiet">stays at </span>{{ t.to || 'the beginning' }}</template
                ><template v-else>{{ t.from || 'the beginning' }}<br />→ {{ t.to }}</template>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <template v-for="t in run.tables ?? []" :key="t.table">
        <TroubleBox v-if="t.problem && (run.tables ?? []).length > 1" :trouble="t.problem"
          ><strong>{{ t.table }}</strong
          >{{ ' ' }}</TroubleBox
        >
        <TroubleBox v-for="(n, i) in t.notes" :key="i" warn :trouble="{ what: n }"
          ><strong>{{ t.table }}</strong
          >{{ ' ' }}</TroubleBox
        >
      </template>
    </section>
    <RunLog v-if="run" :feed="run.feed" :run="id" />
    <section v-if="run" class="sheet" aria-label="Statements">
      <header>
        <h2>Statements</h2>
        <span class="quiet"
          >{{ more ? `the first ${count(statements.length)}` : plural(statements.length, 'statement') }}, every one
          that was run against the source and the warehouse</span
        >
        <span class="grow"></span>
        <ElSelect v-model="only" :empty-values="[null]" style="width: 220px" aria-label="Table">
          <ElOption value="" label="All tables" />
          <ElOption v-for="t in run.tables ?? []" :key="t.table" :value="t.table" :label="t.table" />
        </ElSelect>
      </header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Began</th>
              <th scope="col">Table</th>
              <th scope="col">Side</th>
              <th scope="col">Statement</th>
              <th class="n" scope="col">Rows</th>
              <th class="n" scope="col">Took</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in statements" :key="s.id">
              <td class="mono nowrap">{{ clock(s.started_at) }}</td>
              <td class="nowrap">{{ s.table }}</td>
              <td>{{ s.side }}</td>
              <td class="sql">
                <pre tabindex="0">{{ s.sql }}</pre>
                <div v-if="s.error" class="bad">{{ s.error }}</div>
              </td>
              <td class="n">{{ count(s.rows) }}</td>
              <td class="n">{{ span(s.took_seconds) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="statements.length === 0" class="pad quiet">Statements show when the table is done.</p>
      </div>
      <p v-if="more && pages < 10" class="pad">
        <ElButton size="small" @click="pages++">Show {{ page }} more</ElButton>
      </p>
      <p v-else-if="more" class="pad quiet">
        More than 1000 statements do not show here: noemata runs show {{ id }} --statements lists all.
      </p>
    </section>
  </div>
</template>

<style scoped>
.sql {
  width: 60%;
}
.sql pre {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 110px;
  overflow: auto;
}
.first {
  font-weight: 600;
}
.bad {
  color: var(--bad);
}
</style>
