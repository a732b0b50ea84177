<script setup lang="ts">
import {
  ElButton,
  ElCheckbox,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElOption,
  ElProgress,
  ElSelect,
} from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Backfill, type TableStatus, type Trouble } from '../api'
import { useLive } from '../live'
import { count } from '../words'
import State from './State.vue'
import TroubleBox from './TroubleBox.vue'
import When from './When.vue'

// Ranges of tables that are read again in slices, beside the feed's runs.
const props = defineProps<{ feed: string; tables: TableStatus[]; now: number }>()
const list = ref<Backfill[]>([])
const wrong = ref<Trouble>()
const asking = ref(false)
const range = reactive({ table: '', from: '', to: '', slice: '1d', newest_first: false })
const choices = computed(() => props.tables.filter((t) => t.find === 'watermark').map((t) => t.table))

const refresh = useLive(
  async () => {
    const { data, trouble } = await ask(
      api.GET('/api/v1/feeds/{name}/backfills', { params: { path: { name: props.feed } } }),
    )
    if (data) list.value = data
    wrong.value = trouble
  },
  (event) => event.feed === props.feed,
)
const { busy, refused, act } = useActs(refresh)

function begin() {
  range.table = choices.value[0] ?? ''
  refused.value = undefined
  asking.value = true
}

async function start() {
  const { table, ...rest } = range
  const body = Object.fromEntries(Object.entries(rest).filter(([, value]) => value !== ''))
  const { data } = await act('start', () =>
    ask(
      api.POST('/api/v1/feeds/{name}/backfills', { params: { path: { name: props.feed }, query: { table } }, body }),
    ),
  )
  if (data) asking.value = false
}

const set = (id: number, verb: 'pause' | 'resume' | 'stop') =>
  act(`${verb} ${id}`, () => ask(api.POST(`/api/v1/backfills/{id}/${verb}`, { params: { path: { id } } })))
const ended = (b: Backfill) => b.state === 'done' || b.state === 'stopped'
</script>

<template>
  <section class="sheet" aria-label="Backfills">
    <header>
      <h2>Backfills</h2>
      <span class="quiet">ranges of tables that are read again in slices</span>
      <span class="grow"></span>
      <ElButton size="small" @click="begin">Backfill…</ElButton>
    </header>
    <TroubleBox :trouble="wrong" />
    <TroubleBox v-if="!asking" :trouble="refused" />
    <div v-if="list.length" class="scroll">
      <table class="rows">
        <thead>
          <tr>
            <th class="n" scope="col">No</th>
            <th scope="col">Table</th>
            <th scope="col">State</th>
            <th scope="col">Slices</th>
            <th scope="col">From</th>
            <th scope="col">To</th>
            <th class="n" scope="col">Read</th>
            <th class="n" scope="col">Written</th>
            <th class="n" scope="col">Asked</th>
            <th scope="col"><span class="visually-hidden">Acts</span></th>
          </tr>
        </thead>
        <tbody>
          <template v-for="b in list" :key="b.id">
            <tr>
              <td class="n">{{ b.id }}</td>
              <td>
                <RouterLink :to="{ path: `/feeds/${feed}/table`, query: { name: b.table } }">{{
                  b.table
                }}</RouterLink>
              </td>
              <td><State :state="b.state" /></td>
              <td class="slices">
                <ElProgress
                  :percentage="(100 * b.done) / b.slices"
                  :show-text="false"
                  :stroke-width="4"
                  :aria-label="`Slices of backfill ${b.id} that were read`" />
                {{ count(b.done) }} of {{ count(b.slices) }}
              </td>
              <td class="mono">{{ b.from }}</td>
              <td class="mono">{{ b.to }}</td>
              <td class="n">{{ count(b.books.read) }}</td>
              <td class="n">{{ count(b.books.inserted + b.books.updated + b.books.deleted) }}</td>
              <td class="n"><When :time="b.asked_at" :now="now" /></td>
              <td>
                <template v-if="!ended(b)">
                  <ElButton
                    v-if="b.state === 'paused'"
                    size="small"
                    text
                    :loading="busy === `resume ${b.id}`"
                    @click="set(b.id, 'resume')"
                    >Resume</ElButton
                  >
                  <ElButton v-else size="small" text :loading="busy === `pause ${b.id}`" @click="set(b.id, 'pause')"
                    >Pause</ElButton
                  >
                  <ElButton size="small" text :loading="busy === `stop ${b.id}`" @click="set(b.id, 'stop')"
                    >Stop</ElButton
                  >
                </template>
              </td>
            </tr>
            <tr v-if="b.problem && !ended(b)">
              <td></td>
              <td colspan="9"><TroubleBox :trouble="b.problem" /></td>
            </tr>
          </template>
        </tbody>
      </table>
    </div>
    <p v-else class="pad quiet">No range was read again.</p>
    <ElDialog v-model="asking" title="Read a range again" width="min(560px, 94vw)" align-center append-to-body>
      <TroubleBox :trouble="refused" />
      <ElForm label-position="top" @submit.prevent="start">
        <ElFormItem label="Table">
          <ElSelect v-model="range.table"><ElOption v-for="t in choices" :key="t" :value="t" /></ElSelect>
        </ElFormItem>
        <ElFormItem label="From: the first watermark that counts"
          ><ElInput v-model="range.from" placeholder="the table's first row"
        /></ElFormItem>
        <ElFormItem label="To: the last one"
          ><ElInput v-model="range.to" placeholder="the table's position"
        /></ElFormItem>
        <ElFormItem label="Length of a slice: 12h, 1d, 1mo, 1y, or a number"
          ><ElInput v-model="range.slice" placeholder="all in one"
        /></ElFormItem>
        <ElCheckbox v-model="range.newest_first" label="The last slice first" />
      </ElForm>
      <template #footer>
        <ElButton @click="asking = false">Cancel</ElButton>
        <ElButton type="primary" :disabled="!range.table" :loading="busy === 'start'" @click="start">Start</ElButton>
      </template>
    </ElDialog>
  </section>
</template>

<style scoped>
.slices {
  min-width: 8em;
}
</style>
