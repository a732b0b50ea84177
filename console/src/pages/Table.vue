<script setup lang="ts">
import { ElButton, ElSkeleton } from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Run, type Sample, type Schemas, type TableStatus, type Trouble } from '../api'
import { progress, progressKey, useLive } from '../live'
import Lag from '../parts/Lag.vue'
import PositionForm from '../parts/PositionForm.vue'
import ProofMark from '../parts/ProofMark.vue'
import ProofsPanel from '../parts/ProofsPanel.vue'
import RowVersions from '../parts/RowVersions.vue'
import RunLog from '../parts/RunLog.vue'
import RunsList from '../parts/RunsList.vue'
import SampleRows from '../parts/SampleRows.vue'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import VolumesPanel from '../parts/VolumesPanel.vue'
import When from '../parts/When.vue'
import { ago, bytes, count, useNow } from '../words'

const props = defineProps<{ feed: string; table: string }>()
const status = ref<TableStatus>()
const runs = ref<Run[]>([])
const counts = ref<Schemas['Counts']>()
const sample = ref<Sample>()
const sampled = ref('')
const wrong = ref<Trouble>()
const moving = ref(false)
const now = useNow()
const params = { path: { name: props.feed }, query: { table: props.table } }

const refresh = useLive(
  async () => {
    const [feed, list] = await Promise.all([
      ask(api.GET('/api/v1/feeds/{name}', { params: { path: params.path } })),
      ask(
        api.GET('/api/v1/runs', {
          params: { query: { feed: props.feed, table: props.table, limit: 8, changed: true } },
        }),
      ),
    ])
    if (feed.data) {
      status.value = feed.data.tables.find((t) => t.table === props.table)
      wrong.value = status.value ? undefined : { what: `The feed ${props.feed} has no table ${props.table}.` }
    } else wrong.value = feed.trouble
    if (list.data) runs.value = list.data
  },
  (event) => event.feed === props.feed && event.state !== 'running',
)

const copying = computed(() => {
  const c = status.value?.copy
  if (!c) return ''
  if (c.waiting) return `Before the table is copied, ${c.waiting}.`
  if (c.state === 'joining')
    return `All ${count(c.copied)} rows are copied; the table joins the others when the log has come to the moment they were read at.`
  return `The table is being copied: ${count(c.copied)} of about ${count(c.expected)} rows. What changes meanwhile is kept, and applied after.`
})
const keyColumns = computed(() => status.value?.key ?? [])
const going = computed(() => progress.get(progressKey(props.feed, props.table)))
const difference = computed(() => (counts.value ? counts.value.warehouse - counts.value.source : 0))

const { busy, refused, act } = useActs(refresh)
const looks = useActs() // at both sides; what was wrong is said where the rows would be
const proofs = ref<InstanceType<typeof ProofsPanel>>()

// Both sides are looked at when a person asks: a page that is open is no burden to a source.
async function countBothSides() {
  const { data } = await act('count', () => ask(api.GET('/api/v1/feeds/{name}/counts', { params })))
  counts.value = data ?? counts.value
}

async function showNewest() {
  const { data } = await looks.act('read', () => ask(api.GET('/api/v1/feeds/{name}/sample', { params })))
  if (!data) return
  sample.value = data
  sampled.value = new Date().toISOString()
}

const pause = (paused: boolean) =>
  act('pause', () =>
    ask(
      api.POST('/api/v1/feeds/{name}/pauses', {
        params: { path: params.path },
        body: { tables: [props.table], paused },
      }),
    ),
  )
const copyAgain = () =>
  act(
    'copy',
    () =>
      ask(
        api.POST('/api/v1/feeds/{name}/copies', { params: { path: params.path }, body: { tables: [props.table] } }),
      ),
    {
      title: 'Copy again',
      text: 'Copy the table again? What its target holds is kept until the copy is complete, and a history keeps its past.',
      yes: 'Copy again',
    },
  )
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <div class="crumb">
          <RouterLink to="/">Overview</RouterLink> / <RouterLink :to="`/feeds/${feed}`">{{ feed }}</RouterLink> /
          table
        </div>
        <h1>{{ table }} <State v-if="status" :state="status.state" /></h1>
        <div v-if="status" class="quiet">
          kept as {{ status.keep }} in {{ status.target }}, found by {{ status.find }}
        </div>
      </div>
      <span v-if="going?.read && going.phase !== 'following'" class="quiet"
        >{{ going.phase }}: {{ count(going.read)
        }}<template v-if="going.expected && going.expected > going.read">
          of about {{ count(going.expected) }}</template
        >
        rows</span
      >
      <span class="grow"></span>
      <template v-if="status">
        <ElButton :loading="busy === 'pause'" @click="pause(status.state !== 'paused')">{{
          status.state === 'paused' ? 'Let it go on' : 'Pause'
        }}</ElButton>
        <ElButton
          v-if="status.find === 'log' && status.state !== 'paused'"
          :loading="busy === 'copy'"
          @click="copyAgain"
          >Copy again…</ElButton
        >
      </template>
      <ElButton v-if="status" type="primary" :loading="proofs?.busy === 'prove'" @click="proofs?.begin(false)"
        >Prove equal</ElButton
      >
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox :trouble="refused" />
    <TroubleBox :trouble="status?.problem" />
    <TroubleBox
      v-if="status?.state === 'paused'"
      warn
      :trouble="{
        what: 'The table is paused: its target stays as it is.',
        remedy:
          status.find === 'log'
            ? 'Nothing is kept for it at the source: when it goes on, it is copied again.'
            : 'When it goes on, it is read on from where it stands.',
      }" />
    <TroubleBox
      v-if="status && status.nulls > 0"
      warn
      :trouble="{
        what: `${count(status.nulls)} rows have a null watermark and are not replicated.`,
        remedy: 'Name a fallback column in the feed to include them.',
      }" />
    <ElSkeleton v-if="!status && !wrong" :rows="5" animated />
    <template v-if="status">
      <section class="sheet" aria-label="Where it is">
        <dl class="facts">
          <div>
            <dt>Position</dt>
            <dd class="mono">{{ status.position || 'not begun' }}</dd>
            <dd v-if="status.position && ['watermark', 'log'].includes(status.find)">
              <button class="link" type="button" :aria-expanded="moving" @click="moving = !moving">Set…</button>
            </dd>
          </div>
          <div v-if="copying">
            <dt>First copy</dt>
            <dd>{{ copying }}</dd>
          </div>
          <div>
            <dt>The next run reads</dt>
            <dd>{{ status.next }}</dd>
          </div>
          <div>
            <dt>Lag</dt>
            <dd><Lag :complete-at="status.complete_at" :promised="status.promised_seconds" :now="now" /></dd>
            <dd class="quiet">last run <When :time="status.last_run_at" :now="now" /></dd>
          </div>
          <div>
            <dt>Rows in the source / the warehouse</dt>
            <dd v-if="counts" class="big">{{ count(counts.source) }} / {{ count(counts.warehouse) }}</dd>
            <dd v-if="counts" class="quiet">
              {{
                difference === 0
                  ? 'the same'
                  : `${difference > 0 ? '+' : '−'}${count(Math.abs(difference))} in the warehouse`
              }}, counted {{ ago(counts.at, now)
              }}<template v-if="counts.bytes >= 0">; it takes {{ bytes(counts.bytes) }} there</template>
            </dd>
            <dd v-if="!counts && status.rows !== undefined" class="quiet">
              {{ count(status.rows) }} in the warehouse, by the books
            </dd>
            <dd class="ask-for">
              <ElButton size="small" :loading="busy === 'count'" @click="countBothSides">{{
                counts ? 'Count again' : 'Count both sides'
              }}</ElButton>
            </dd>
          </div>
          <div>
            <dt>Last proof</dt>
            <dd><ProofMark :proof="status.proof" :now="now" /></dd>
            <dd v-if="status.proof && status.proof.in_flight > 0" class="quiet">
              {{ count(status.proof.in_flight) }} beyond the position, not judged
            </dd>
            <dd
              v-for="(x, i) in status.proof?.same === false ? status.proof.examples.slice(0, 3) : []"
              :key="i"
              class="mono">
              {{ x }}
            </dd>
          </div>
        </dl>
        <PositionForm
          v-if="moving"
          class="move"
          :feed="feed"
          :table="table"
          :stands="status.position ?? ''"
          :log="status.find === 'log'"
          @set="((moving = false), refresh())" />
      </section>
      <ProofsPanel
        ref="proofs"
        :feed="feed"
        :table="table"
        :repairable="status.keep !== 'ledger' && status.keep !== 'replace'"
        :dated="status.find === 'watermark' && /^\d{4}-/.test(status.position ?? '')"
        :now="now" />
      <RowVersions
        v-if="status.keep === 'history' && keyColumns.length"
        :key="keyColumns.join()"
        :feed="feed"
        :table="table"
        :key-columns="keyColumns"
        :now="now" />
      <section class="sheet" aria-label="Newest rows">
        <header>
          <h2>Newest rows</h2>
          <span class="quiet"
            >on both sides, side by side where they are the same row<template v-if="sampled"
              >, read {{ ago(sampled, now) }}</template
            ></span
          >
          <span class="grow"></span>
          <ElButton size="small" :loading="looks.busy.value === 'read'" @click="showNewest">{{
            sample ? 'Read again' : 'Show rows'
          }}</ElButton>
        </header>
        <TroubleBox :trouble="looks.refused.value" />
        <SampleRows v-if="sample" :sample="sample" />
      </section>
      <section class="sheet" aria-label="Runs">
        <header>
          <h2>Runs</h2>
          <span class="quiet">that read rows of this table or did not succeed; counters are of the whole run</span>
        </header>
        <RunsList v-if="runs.length" :runs="runs" :now="now" />
        <p v-else class="pad quiet">No run has read a row yet.</p>
      </section>
      <VolumesPanel :feed="feed" :table="table" :run="status.last_run" />
      <RunLog :feed="feed" :table="table" />
    </template>
  </div>
</template>

<style scoped>
.move {
  border-top: 1px solid var(--line);
}
.ask-for {
  margin-top: 6px;
}
</style>
