<script setup lang="ts">
import { ElButton, ElInput, ElOption, ElSelect } from 'element-plus'
import { nextTick, onUnmounted, ref, watch } from 'vue'
import { api, ask, type Schemas, type Trouble } from '../api'
import TroubleBox from './TroubleBox.vue'

// What runs have said: of a feed, one of its runs or one of its tables. It is followed as it grows.
const props = defineProps<{ feed: string; run?: number; table?: string }>()
type Entry = Schemas['LogEntry']
const entries = ref<Entry[]>([])
const level = ref<'info' | 'warning' | 'error'>('info')
const text = ref('')
const wrong = ref<Trouble>()
const more = ref(false)
const following = ref(true)
const loaded = ref(false)
const box = ref<HTMLElement>()

/** How many entries are asked for at once, and show at most. */
const page = 100
const most = 2000

const get = (query: { after?: number; before?: number; limit?: number }) =>
  ask(
    api.GET('/api/v1/feeds/{name}/log', {
      params: {
        path: { name: props.feed },
        query: {
          run: props.run,
          table: props.table,
          level: level.value,
          text: text.value.trim() || undefined,
          ...query,
        },
      },
    }),
  )

async function load() {
  const { data, trouble } = await get({ limit: page })
  wrong.value = trouble
  if (!data) return
  entries.value = data
  more.value = data.length === page
  loaded.value = true
  await toEnd()
}

async function toEnd() {
  await nextTick()
  if (box.value) box.value.scrollTop = box.value.scrollHeight
}

async function earlier() {
  const first = entries.value[0]
  if (!first) return
  const { data } = await get({ before: first.id, limit: page })
  entries.value = [...(data ?? []), ...entries.value]
  more.value = data?.length === page
}

async function later() {
  if (!following.value || document.hidden || !loaded.value) return
  const last = entries.value.at(-1)
  if (!last) return load()
  const { data, trouble } = await get({ after: last.id, limit: page })
  wrong.value = trouble
  if (!data?.length) return
  entries.value = [...entries.value, ...data].slice(-most)
  await toEnd()
}

/** All of it, as JSON, an entry a line. */
async function download() {
  let all: Entry[] = []
  for (let before: number | undefined; ; before = all[0]?.id) {
    const { data } = await get({ before, limit: 1000 })
    all = [...(data ?? []), ...all]
    if ((data?.length ?? 0) < 1000 || all.length >= 100_000) break
  }
  const link = document.createElement('a')
  link.href = URL.createObjectURL(
    new Blob([all.map((e) => JSON.stringify(e) + '\n').join('')], { type: 'application/x-ndjson' }),
  )
  link.download = `${props.feed}${props.run ? `-run-${props.run}` : ''}.log.ndjson`
  link.click()
  URL.revokeObjectURL(link.href)
}

watch([level, text, () => props.run], load, { immediate: true })
const timer = window.setInterval(later, 1500)
onUnmounted(() => clearInterval(timer))
const clock = (time: string) => new Date(time).toISOString().replace('T', ' ').slice(5, 23) + 'Z'
</script>

<template>
  <section class="sheet" aria-label="Log">
    <header>
      <h2>Log</h2>
      <span class="quiet">what {{ run ? 'the run has' : 'runs have' }} said</span>
      <span class="grow"></span>
      <ElInput
        v-model.lazy="text"
        clearable
        class="only"
        placeholder="Only with this text"
        aria-label="Only entries with this text" />
      <ElSelect v-model="level" style="width: 150px" aria-label="Level">
        <ElOption value="info" label="Everything" />
        <ElOption value="warning" label="Warnings, errors" />
        <ElOption value="error" label="Errors" />
      </ElSelect>
      <button
        type="button"
        class="choice"
        :aria-pressed="following"
        title="Show what is said from now on"
        @click="following = !following">
        {{ following ? 'Following' : 'Follow' }}
      </button>
      <ElButton size="small" @click="download">Download</ElButton>
    </header>
    <TroubleBox :trouble="wrong" />
    <div ref="box" class="scroll entries" tabindex="0" role="log" aria-label="Entries">
      <p v-if="more" class="pad"><ElButton size="small" text @click="earlier">Show earlier ones</ElButton></p>
      <table class="rows tight">
        <tbody>
          <tr v-for="e in entries" :key="e.id" :class="e.level">
            <td class="mono nowrap">{{ clock(e.at) }}</td>
            <td v-if="!run" class="nowrap">
              <RouterLink v-if="e.run" :to="`/runs/${e.run}`">run {{ e.run }}</RouterLink>
            </td>
            <td class="nowrap">{{ e.level === 'info' ? '' : e.level }}</td>
            <td v-if="!table" class="nowrap quiet">{{ e.table }}</td>
            <td class="what">
              {{ e.what }} <span v-if="e.remedy" class="quiet">{{ e.remedy }}</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="loaded && !entries.length" class="pad quiet">
        {{ text || level !== 'info' ? 'Nothing like that was said.' : 'Nothing was said yet.' }}
      </p>
    </div>
  </section>
</template>

<style scoped>
.entries {
  max-height: 340px;
  overflow: auto;
}
.what {
  white-space: normal;
  width: 100%;
  overflow-wrap: anywhere;
}
.warning td:nth-child(-n + 3) {
  color: var(--warn);
}
.error td:nth-child(-n + 3) {
  color: var(--bad);
  font-weight: 600;
}
.choice {
  margin-left: 0;
}
.only {
  width: 190px;
}
</style>
