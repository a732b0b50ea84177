<script setup lang="ts">
import { ElButton } from 'element-plus'
import { ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type DerivedTable, type Derivation, type Trouble } from '../api'
import { useLive } from '../live'
import { between, count, span } from '../words'
import State from './State.vue'
import TroubleBox from './TroubleBox.vue'
import When from './When.vue'

// A derived table: its SQL, what came of its checks, and when it was made and why.
const props = defineProps<{ set: string; warehouse: string; table: DerivedTable; now: number; may: boolean }>()
const list = ref<Derivation[]>()
const wrong = ref<Trouble>()
const shown = ref<Derivation>()

const refresh = useLive(
  async () => {
    const { data, trouble } = await ask(
      api.GET('/api/v1/derived/{name}/makings', {
        params: { path: { name: props.set }, query: { table: props.table.table, limit: 8 } },
      }),
    )
    if (data) list.value = data
    wrong.value = trouble
  },
  (event) => event.kind === 'derived',
)
const { busy, refused, act } = useActs(refresh)

const stop = (d: Derivation) =>
  act(`stop ${d.id}`, () => ask(api.POST('/api/v1/derivations/{id}/stop', { params: { path: { id: d.id } } })))

async function show(d: Derivation) {
  if (shown.value?.id === d.id) return (shown.value = undefined)
  const { data } = await act(`show ${d.id}`, () =>
    ask(api.GET('/api/v1/derivations/{id}', { params: { path: { id: d.id } } })),
  )
  shown.value = data
}

function what(d: Derivation) {
  if (d.problem) return d.problem.what
  if (d.state !== 'done') return ''
  if (d.same) return 'the same rows as before'
  if (d.rows >= 0 && d.parts === undefined && props.table.as === 'table')
    return `${count(d.rows)} rows in the place of ${count(d.deleted)}`
  const parts = d.parts === undefined ? '' : ` in ${count(d.parts)} ${d.parts === 1 ? 'part' : 'parts'}`
  return d.rows < 0 ? '' : `${count(d.inserted)} in, ${count(d.updated)} changed, ${count(d.deleted)} out${parts}`
}
</script>

<template>
  <div class="beside">
    <section :aria-label="`The SQL of ${table.table}`">
      <header>
        <h3>SQL</h3>
        <span class="grow"></span>
        <slot></slot>
      </header>
      <pre tabindex="0">{{ table.sql.trim() }}</pre>
      <template v-if="table.checks.length">
        <h3>Checks</h3>
        <ul class="checks">
          <li v-for="c in table.checks" :key="c.check">
            <span :class="c.holds ? 'good' : 'bad'">{{ c.holds ? 'holds' : `${count(c.found)} found` }}</span>
            <span>{{ c.check }}</span>
            <span v-if="!c.keeps" class="quiet">only told</span>
            <pre v-if="!c.holds">{{ c.sql.trim() }}</pre>
          </li>
        </ul>
      </template>
    </section>
    <section :aria-label="`Makings of ${table.table}`">
      <TroubleBox :trouble="table.problem" />
      <TroubleBox :trouble="wrong" />
      <TroubleBox :trouble="refused" />
      <h3>Made</h3>
      <p v-if="list && !list.length" class="quiet">Not yet.</p>
      <table v-else class="rows tight">
        <thead>
          <tr>
            <th scope="col">Began</th>
            <th scope="col">State</th>
            <th scope="col" class="n">Took</th>
            <th scope="col">What</th>
            <th scope="col">Why</th>
            <th v-if="may" scope="col"></th>
          </tr>
        </thead>
        <tbody>
          <template v-for="d in list" :key="d.id">
            <tr>
              <td class="nowrap"><When :time="d.started_at" :now="now" /></td>
              <td><State :state="d.state" /></td>
              <td class="n">{{ span(between(d.started_at, d.ended_at, now)) }}</td>
              <td>{{ what(d) }}</td>
              <td class="quiet">{{ d.why }}</td>
              <td v-if="may" class="n">
                <ElButton v-if="!d.ended_at" size="small" :loading="busy === `stop ${d.id}`" @click="stop(d)"
                  >Stop</ElButton
                >
                <ElButton v-else size="small" text :aria-expanded="shown?.id === d.id" @click="show(d)">{{
                  shown?.id === d.id ? 'Hide' : 'Statements'
                }}</ElButton>
              </td>
            </tr>
            <tr v-if="shown?.id === d.id">
              <td :colspan="6">
                <pre v-for="(s, i) in shown.statements ?? []" :key="i">{{ s.sql }}<span class="quiet"
                    >  -- {{ span(s.took_seconds) }}, {{ count(s.rows) }} rows{{ s.error ? `, ${s.error}` : '' }}</span
                  ></pre>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </section>
  </div>
</template>

<style scoped>
.beside {
  display: grid;
  grid-template-columns: minmax(300px, 2fr) minmax(420px, 3fr);
  gap: 12px 22px;
}
header {
  display: flex;
  align-items: center;
}
.grow {
  flex: 1;
}
h3 {
  margin: 6px 0 4px;
  font-size: 12px;
  font-weight: 600;
  color: var(--ink-2);
}
pre {
  margin: 0;
  padding: 8px 10px;
  background: var(--paper);
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 300px;
  overflow-y: auto;
}
td pre + pre {
  margin-top: 2px;
}
.checks {
  margin: 0;
  padding: 0;
  list-style: none;
}
.checks li {
  display: grid;
  grid-template-columns: 60px 1fr;
  gap: 2px 10px;
}
.checks li > pre,
.checks li > .quiet {
  grid-column: 2;
}
.good {
  color: var(--good);
}
.bad {
  color: var(--bad);
  font-weight: 600;
}
@media (max-width: 1000px) {
  .beside {
    grid-template-columns: 1fr;
  }
}
</style>
