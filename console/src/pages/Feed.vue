<script setup lang="ts">
import { ElButton, ElSkeleton } from 'element-plus'
import { ref } from 'vue'
import { useRouter } from 'vue-router'
import { useActs } from '../act'
import { api, ask, type FeedStatus, type Run, type Trouble } from '../api'
import { useLive } from '../live'
import { prove as proveTable } from '../proofs'
import BackfillsPanel from '../parts/BackfillsPanel.vue'
import DriftsPanel from '../parts/DriftsPanel.vue'
import FeedFile from '../parts/FeedFile.vue'
import LogPanel from '../parts/LogPanel.vue'
import RevisionsPanel from '../parts/RevisionsPanel.vue'
import RunLog from '../parts/RunLog.vue'
import RunsList from '../parts/RunsList.vue'
import State from '../parts/State.vue'
import TablesList from '../parts/TablesList.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import VolumesPanel from '../parts/VolumesPanel.vue'
import { ago, at, useNow } from '../words'

const props = defineProps<{ feed: string }>()
const router = useRouter()
const status = ref<FeedStatus>()
const runs = ref<Run[]>([])
const wrong = ref<Trouble>()
const file = ref('')
const editing = ref(false)
const applied = ref(0)
const now = useNow()
const path = { name: props.feed }

const refresh = useLive(
  async () => {
    const [feed, list] = await Promise.all([
      ask(api.GET('/api/v1/feeds/{name}', { params: { path } })),
      ask(api.GET('/api/v1/runs', { params: { query: { feed: props.feed, limit: 12, changed: true } } })),
    ])
    if (feed.data) status.value = feed.data
    if (list.data) runs.value = list.data
    wrong.value = feed.trouble ?? list.trouble
  },
  (event) => event.feed === props.feed,
)

const { busy, refused, act } = useActs(refresh)
const start = () => act('start', () => ask(api.POST('/api/v1/feeds/{name}/start', { params: { path } })))
const pause = () => act('pause', () => ask(api.POST('/api/v1/feeds/{name}/pause', { params: { path } })))
const run = () => act('run', () => ask(api.POST('/api/v1/feeds/{name}/runs', { params: { path } })))
const prove = () =>
  act('prove', async () => {
    for (const t of status.value?.tables ?? []) {
      const { trouble } = await proveTable(props.feed, t.table)
      if (trouble) return { trouble }
      await refresh()
    }
    return {}
  })

async function edit() {
  const { data } = await act('edit', () => ask(api.GET('/api/v1/feeds/{name}/file', { params: { path } })))
  if (data) open(data.file)
}

function open(content: string) {
  file.value = content
  editing.value = true
}

async function changed() {
  applied.value++
  await refresh()
}

const copyAgain = () =>
  act('copy', () => ask(api.POST('/api/v1/feeds/{name}/copies', { params: { path }, body: {} })), {
    title: 'Copy again',
    text: 'Copy all tables again, from a new position in the log? Until the copies are complete the warehouse stays as it is. A history keeps its past.',
    yes: 'Copy again',
  })

async function remove() {
  const removed = async () => {
    const { trouble } = await ask(api.DELETE('/api/v1/feeds/{name}', { params: { path } }))
    if (!trouble) await router.push('/')
    return { trouble }
  }
  await act('remove', removed, {
    title: 'Remove the feed',
    text: `Remove the feed ${props.feed} and its runs? Tables and positions in the warehouse stay.`,
    yes: 'Remove',
  })
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <div class="crumb"><RouterLink to="/">Overview</RouterLink> / feed</div>
        <h1>
          {{ feed }}
          <State v-if="status" :state="status.running ? (status.log ? 'following' : 'running') : status.state" />
        </h1>
        <div v-if="status" class="quiet">
          {{ status.source }} → {{ status.warehouse }}, {{ status.schedule
          }}<template v-if="status.state === 'active' && status.next_run_at && !status.running"
            >, next {{ ago(status.next_run_at, now) }}</template
          >
        </div>
        <div
          v-if="status?.changed_at"
          class="quiet small"
          :title="`made by ${status.made_by || 'nobody known'} ${at(status.made_at)}`">
          changed by {{ status.changed_by || 'nobody known' }} {{ ago(status.changed_at, now) }}
        </div>
      </div>
      <span class="grow"></span>
      <template v-if="status">
        <ElButton type="primary" :loading="busy === 'run'" @click="run">Run now</ElButton>
        <ElButton v-if="status.state !== 'active'" :loading="busy === 'start'" @click="start">Start</ElButton>
        <ElButton v-else :loading="busy === 'pause'" @click="pause">Pause</ElButton>
        <ElButton :loading="busy === 'prove'" @click="prove">Prove all tables</ElButton>
        <ElButton v-if="status.log" :loading="busy === 'copy'" @click="copyAgain">Copy again…</ElButton>
        <ElButton @click="router.push(`/feeds/${feed}/change`)">Change…</ElButton>
        <ElButton @click="edit">File…</ElButton>
        <ElButton text :loading="busy === 'remove'" @click="remove">Remove…</ElButton>
      </template>
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox :trouble="refused" />
    <TroubleBox :trouble="status?.held" />
    <TroubleBox v-if="status?.last_run?.state === 'failed' && !status.running" :trouble="status.last_run.problem"
      ><RouterLink :to="`/runs/${status.last_run.id}`">Run {{ status.last_run.id }} failed.</RouterLink
      >{{ ' ' }}</TroubleBox
    >
    <ElSkeleton v-if="!status && !wrong" :rows="6" animated />
    <section v-if="status" class="sheet" aria-label="Tables">
      <header><h2>Tables</h2></header>
      <TablesList :tables="status.tables" :now="now" position />
    </section>
    <LogPanel v-if="status?.log" :feed="feed" :log="status.log" :now="now" />
    <BackfillsPanel
      v-if="status?.tables.some((t) => t.find === 'watermark')"
      :feed="feed"
      :tables="status.tables"
      :now="now" />
    <DriftsPanel v-if="status" :feed="feed" :run="status.last_run?.id" :now="now" />
    <section v-if="status" class="sheet" aria-label="Runs">
      <header>
        <h2>Runs</h2>
        <span class="quiet">that read rows or did not succeed</span>
        <span class="grow"></span>
        <RouterLink :to="{ path: '/runs', query: { feed } }">All runs</RouterLink>
      </header>
      <RunsList v-if="runs.length" :runs="runs" :now="now" />
      <p v-else class="pad quiet">No run has read a row yet.</p>
    </section>
    <VolumesPanel v-if="status" :feed="feed" :run="status.last_run?.id" />
    <RunLog v-if="status" :feed="feed" />
    <RevisionsPanel v-if="status" :feed="feed" :applied="applied" :now="now" @open="open" />
    <FeedFile v-model="editing" :content="file" @applied="changed" />
  </div>
</template>

<style scoped>
.small {
  font-size: 12px;
}
</style>
