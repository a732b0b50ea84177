<script setup lang="ts">
import { ElButton } from 'element-plus'
import { ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Proving, type Trouble } from '../api'
import { useLive } from '../live'
import { prove, troubleOf } from '../proofs'
import { count, plural } from '../words'
import State from './State.vue'
import TroubleBox from './TroubleBox.vue'
import When from './When.vue'

// Proofs and repairs of a table: how they go, and the rows that differ with the values of both sides.
const props = defineProps<{ feed: string; table: string; repairable: boolean; dated?: boolean; now: number }>()
const list = ref<Proving[]>([])
const wrong = ref<Trouble>()
const shown = ref<Proving>()
const going = ref<Proving>()

const refresh = useLive(
  async () => {
    const { data, trouble } = await ask(
      api.GET('/api/v1/feeds/{name}/proofs', {
        params: { path: { name: props.feed }, query: { table: props.table, limit: 6 } },
      }),
    )
    if (data) list.value = data
    wrong.value = trouble
  },
  (event) => event.feed === props.feed,
)
const { busy, refused, act } = useActs(refresh)

async function begin(repair: boolean, since = '') {
  const question = repair
    ? {
        title: 'Repair the table',
        text: 'Compare both sides and bring the rows that differ to what the source has? Other rows stay as they are.',
        yes: 'Repair',
      }
    : undefined
  const { data } = await act(
    repair ? 'repair' : 'prove',
    () => prove(props.feed, props.table, repair, (p) => (going.value = p), since),
    question,
  )
  going.value = undefined
  if (data?.differences?.length) shown.value = data
}

async function show(p: Proving) {
  if (shown.value?.id === p.id) return (shown.value = undefined)
  const { data } = await act(`show ${p.id}`, () =>
    ask(api.GET('/api/v1/proofs/{id}', { params: { path: { id: p.id } } })),
  )
  if (data) shown.value = data
}

const stop = (p: Proving) => ask(api.POST('/api/v1/proofs/{id}/stop', { params: { path: { id: p.id } } }))
const said: Record<string, string> = {
  differing: 'values differ',
  missing: 'only at the source',
  extra: 'only in the warehouse',
}
const differs = (p: Proving) =>
  p.proof && !p.proof.same
    ? p.proof.differing + p.proof.missing + p.proof.extra + (p.proof.contradictions ?? 0) + (p.proof.unlooked ?? 0)
    : 0

function result(p: Proving) {
  const trouble = troubleOf(p)
  if (trouble) return `${trouble.what} ${trouble.remedy ?? ''}`
  if (!p.proof)
    return p.phase
      ? `${p.phase}: ${count(p.read)} of about ${count(Math.max(p.read, p.expected))} rows`
      : 'waits for its turn'
  const found = p.proof.same
    ? `equal in ${plural(p.proof.equal, 'row')}`
    : `${plural(differs(p), 'row')} not equal, ${count(p.proof.equal)} equal`
  return p.repaired && !p.proof.same
    ? `${found}; ${plural(p.repaired.keys, 'key')} repaired${p.repaired.left ? `, ${count(p.repaired.left)} left` : ''}`
    : found
}
defineExpose({ begin, busy })
</script>

<template>
  <section class="sheet" aria-label="Proofs">
    <header>
      <h2>Proofs</h2>
      <span class="quiet">every value of every row, on both sides</span>
      <span class="grow"></span>
      <span v-if="going" class="quiet" role="status">{{ result(going) }}</span>
      <ElButton v-if="going" size="small" @click="stop(going)">Stop</ElButton>
      <ElButton v-if="dated" size="small" :loading="busy === 'prove'" @click="begin(false, '1d')"
        >Prove the last day</ElButton
      >
      <ElButton v-if="repairable" size="small" :loading="busy === 'repair'" @click="begin(true)">Repair…</ElButton>
    </header>
    <TroubleBox :trouble="wrong" />
    <TroubleBox :trouble="refused" />
    <div v-if="list.length" class="scroll">
      <table class="rows">
        <thead>
          <tr>
            <th scope="col" class="n">No</th>
            <th scope="col">What</th>
            <th scope="col">State</th>
            <th scope="col">Result</th>
            <th scope="col">Asked</th>
            <th scope="col">By</th>
            <th scope="col"></th>
          </tr>
        </thead>
        <tbody>
          <template v-for="p in list" :key="p.id">
            <tr>
              <td class="n">{{ p.id }}</td>
              <td>
                {{ p.repair ? 'repair' : 'proof'
                }}<span v-if="p.since" class="quiet"> of rows since {{ p.since }}</span>
              </td>
              <td><State :state="p.state === 'done' && differs(p) && !p.repair ? 'unequal' : p.state" /></td>
              <td>{{ result(p) }}</td>
              <td class="nowrap"><When :time="p.asked_at" :now="now" /></td>
              <td>{{ p.asked_by || 'the feed’s file' }}</td>
              <td class="n">
                <ElButton v-if="differs(p)" size="small" text :aria-expanded="shown?.id === p.id" @click="show(p)">{{
                  shown?.id === p.id ? 'Hide rows' : 'Rows'
                }}</ElButton>
              </td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
    <p v-else-if="!wrong" class="pad quiet">Nobody has asked for a proof yet.</p>
    <ul v-if="list[0]?.proof?.notes?.length" class="pad notes">
      <li v-for="n in list[0].proof.notes" :key="n">{{ n }}</li>
    </ul>
    <template v-if="shown">
      <h3 class="pad sub">
        Rows that differ, by {{ shown.repair ? 'repair' : 'proof' }} {{ shown.id
        }}<span class="quiet"> · the first {{ count(shown.differences?.length ?? 0) }}, ordered by kind and key</span>
      </h3>
      <div class="scroll" tabindex="0" role="region" aria-label="Rows that differ">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Key</th>
              <th scope="col">How</th>
              <th scope="col">Column</th>
              <th scope="col">At the source</th>
              <th scope="col">In the warehouse</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="(d, i) in shown.differences" :key="i">
              <tr v-for="(v, k) in d.columns?.length ? d.columns : [undefined]" :key="k">
                <td class="mono">{{ k === 0 ? (d.key?.join(', ') ?? '–') : '' }}</td>
                <td>{{ k === 0 ? said[d.kind] : '' }}</td>
                <td class="mono">{{ v?.column ?? '–' }}</td>
                <td class="mono value">
                  <template v-if="d.kind !== 'extra'">{{ v?.source ?? 'null' }}</template>
                </td>
                <td class="mono value">
                  <template v-if="d.kind !== 'missing'">{{ v?.warehouse ?? 'null' }}</template>
                </td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
      <TroubleBox
        v-if="shown.proof?.contradictions"
        warn
        :trouble="{
          what: `Rows of ${plural(shown.proof.contradictions, 'key')} in the warehouse contradict each other.`,
          remedy: shown.proof.examples.find((x) => /overlap|begin|flagged|more than one/i.test(x)),
        }" />
    </template>
  </section>
</template>

<style scoped>
.notes {
  margin: 0;
  padding-left: 30px;
  border-top: 1px solid var(--line);
}
.sub {
  margin: 0;
  font-size: 13px;
  font-weight: 600;
  border-top: 1px solid var(--line);
}
.sub .quiet {
  font-weight: 400;
}
.scroll {
  overflow: auto;
  max-height: 60vh;
}
.value {
  overflow-wrap: anywhere;
  max-width: 340px;
}
</style>
