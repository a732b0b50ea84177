<script setup lang="ts">
import { ElButton, ElOption, ElSelect, ElSkeleton } from 'element-plus'
import { computed, ref } from 'vue'
import { api, ask, type Run, type Statement, type Trouble } from '../api'
import { progress, progressKey, useLive } from '../live'
import Rows from '../parts/Rows.vue'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { at, between, count, plural, span, useNow } from '../words'

const props = defineProps<{ id: number }>()
const run = ref<Run>()
const statements = ref<Statement[]>([])
const wrong = ref<Trouble>()
const refused = ref<Trouble>()
const stopping = ref(false)
const only = ref('')
const now = useNow()

const refresh = useLive(
  async () => {
    const params = { path: { id: props.id } }
    const [r, s] = await Promise.all([ask(api.GET('/api/v1/runs/{id}', { params })), ask(api.GET('/api/v1/runs/{id}/statements', { params }))])
    if (r.data) run.value = r.data
    if (s.data) statements.value = s.data
    wrong.value = r.trouble ?? s.trouble
  },
  (event) => event.run === props.id,
)
async function stop() {
  stopping.value = true
  refused.value = (await ask(api.POST('/api/v1/runs/{id}/stop', { params: { path: { id: props.id } } }))).trouble
  await refresh()
  stopping.value = run.value?.state === 'running'
}

const shown = computed(() => statements.value.filter((s) => !only.value || s.table === only.value))
const going = (table: string) => (run.value ? progress.get(progressKey(run.value.feed, table)) : undefined)
const clock = (time: string) => new Date(time).toISOString().slice(11, 23) + 'Z'
const counters = ['read', 'filtered', 'folded', 'set_aside', 'unchanged', 'inserted', 'updated', 'deleted'] as const
const title = (name: string) => (name[0]?.toUpperCase() ?? '') + name.slice(1).replace('_', ' ')
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <div class="crumb"><RouterLink to="/">Overview</RouterLink> / <RouterLink v-if="run" :to="`/feeds/${run.feed}`">{{ run.feed }}</RouterLink> / run</div>
        <h1>Run {{ id }} <State v-if="run" :state="run.state" /></h1>
        <div v-if="run" class="quiet">
          started by {{ run.trigger }}<template v-if="run.started_at">, <span :title="at(run.started_at)">{{ at(run.started_at) }}</span> (<When :time="run.started_at" :now="now" />), took {{ span(between(run.started_at, run.ended_at, now)) }}</template>
        </div>
      </div>
      <span class="grow"></span>
      <ElButton v-if="run?.state === 'running' || run?.state === 'queued'" :loading="stopping" @click="stop">Stop</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox :trouble="refused" />
    <TroubleBox :trouble="run?.problem" />
    <ElSkeleton v-if="!run && !wrong" :rows="6" animated />
    <section v-if="run" class="sheet" aria-label="Tables">
      <header><h2>Books</h2><span class="quiet">read = filtered + folded + set aside + unchanged + inserted + updated + deleted</span></header>
      <div class="scroll">
        <table class="rows tight">
          <thead>
            <tr>
              <th scope="col">Table</th>
              <th scope="col">State</th>
              <th v-for="c in counters" :key="c" class="n" scope="col">{{ title(c) }}</th>
              <th class="n" scope="col">Commits</th>
              <th class="n" scope="col">Source</th>
              <th class="n" scope="col">Warehouse</th>
              <th scope="col">Position before → after</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in run.tables ?? []" :key="t.table">
              <td class="nowrap"><RouterLink :to="{ path: `/feeds/${run.feed}/table`, query: { name: t.table } }">{{ t.table }}</RouterLink></td>
              <td class="nowrap"><State :state="t.state" /> <span v-if="t.state === 'running' && going(t.table)?.read" class="quiet">{{ count(going(t.table)?.read) }}</span></td>
              <td v-for="c in counters" :key="c" class="n" :class="{ first: c === 'read' }"><Rows :n="t.books[c]" /></td>
              <td class="n"><Rows :n="t.commits" /></td>
              <td class="n">{{ span(t.reading_seconds) }}</td>
              <td class="n">{{ span(t.writing_seconds) }}</td>
              <td class="mono nowrap"><template v-if="t.from === t.to"><span class="quiet">stays at </span>{{ t.to || 'the beginning' }}</template><template v-else>{{ t.from || 'the beginning' }}<br />→ {{ t.to }}</template></td>
            </tr>
          </tbody>
        </table>
      </div>
      <template v-for="t in run.tables ?? []" :key="t.table">
        <TroubleBox v-if="t.problem && (run.tables ?? []).length > 1" :trouble="t.problem"><strong>{{ t.table }}</strong>{{ ' ' }}</TroubleBox>
        <TroubleBox v-for="n in t.notes" :key="n" warn :trouble="{ what: n }"><strong>{{ t.table }}</strong>{{ ' ' }}</TroubleBox>
      </template>
    </section>
    <section v-if="run" class="sheet" aria-label="Statements">
      <header>
        <h2>Statements</h2>
        <span class="quiet">{{ plural(shown.length, 'statement') }}, every one that was run against the source and the warehouse</span>
        <span class="grow"></span>
        <ElSelect v-model="only" :empty-values="[null]" style="width: 220px" aria-label="Table">
          <ElOption value="" label="All tables" />
          <ElOption v-for="t in run.tables ?? []" :key="t.table" :value="t.table" :label="t.table" />
        </ElSelect>
      </header>
      <div class="scroll">
        <table class="rows">
          <thead><tr><th scope="col">Began</th><th scope="col">Table</th><th scope="col">Side</th><th scope="col">Statement</th><th class="n" scope="col">Rows</th><th class="n" scope="col">Took</th></tr></thead>
          <tbody>
            <tr v-for="(s, i) in shown" :key="i">
              <td class="mono nowrap">{{ clock(s.started_at) }}</td>
              <td class="nowrap">{{ s.table }}</td>
              <td>{{ s.side }}</td>
              <td class="sql"><pre tabindex="0">{{ s.sql }}</pre><div v-if="s.error" class="bad">{{ s.error }}</div></td>
              <td class="n">{{ count(s.rows) }}</td>
              <td class="n">{{ span(s.took_seconds) }}</td>
            </tr>
          </tbody>
        </table>
        <p v-if="shown.length === 0" class="pad quiet">Statements show when the table is done.</p>
      </div>
    </section>
  </div>
</template>

<style scoped>
.sql { width: 60%; }
.sql pre { margin: 0; white-space: pre-wrap; overflow-wrap: anywhere; max-height: 110px; overflow: auto; }
.first { font-weight: 600; }
.bad { color: var(--bad); }
</style>
