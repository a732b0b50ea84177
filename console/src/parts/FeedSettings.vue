<script setup lang="ts">
import { ElButton, ElDialog, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { api, ask, type Trouble } from '../api'
import { removeEntry, setSetting, settingsOf, tablesOf } from '../feedfile'
import { feedGroups, type Setting, tableGroups } from '../settings'
import OneOf from './OneOf.vue'
import TroubleBox from './TroubleBox.vue'

// What a feed's file says of the feed, or of one of its tables, besides what has a form of its own.
const shown = defineModel<boolean>({ required: true })
const file = defineModel<string>('file', { required: true })
const props = defineProps<{ source: string; of: number | 'feed' }>()
const entry = computed(() => (props.of === 'feed' ? undefined : tablesOf(file.value)[props.of]))
const removable = computed(() => entry.value?.pattern || entry.value?.query)
const columns = ref<string[]>([])
const wrong = ref<Trouble>()

watch(shown, async (now) => {
  if (!now) return
  columns.value = []
  wrong.value = undefined
  void look()
  if (!entry.value || removable.value) return
  const { data } = await ask(
    api.GET('/api/v1/sources/{name}/table', {
      params: { path: { name: props.source }, query: { table: entry.value.table } },
    }),
  )
  columns.value = data?.columns?.map((c) => c.name) ?? []
})

const groups = computed(() => (entry.value ? tableGroups(entry.value, columns.value) : feedGroups))
const values = computed(() => {
  const all = groups.value.flatMap((g) => g.settings)
  const said = settingsOf(
    file.value,
    props.of,
    all.map((s) => s.path),
  )
  return new Map(all.map((s, i) => [s.path.join('.'), said[i]]))
})
const listed = (s: Setting): string[] => [values.value.get(s.path.join('.')) ?? []].flat().filter((v) => v !== '')
const text = (s: Setting) => listed(s).join(', ')
/** What is being typed, until the field is left. */
const typed = ref<Record<string, string>>({})

function set(s: Setting, value: string | string[]) {
  let to: unknown = typeof value === 'string' ? value.trim() : value
  if (s.number && /^\d+$/.test(String(to))) to = Number(to)
  if (s.labels)
    to = Object.fromEntries(
      String(to)
        .split(',')
        .map((l) => l.trim())
        .filter(Boolean)
        .map((l) => [l.split('=')[0]!.trim(), l.split('=').slice(1).join('=').trim()]),
    )
  file.value = setSetting(file.value, props.of, s.path, to)
}

/** The service says what is wrong with the file as it is written; only the newest answer counts. */
let newest = 0
let timer = 0
async function look() {
  const mine = ++newest
  const { trouble } = await ask(
    api.POST('/api/v1/feed-files', { body: { file: file.value, dry_run: true, offline: true } }),
  )
  if (mine === newest) wrong.value = trouble
}
watch(file, () => {
  clearTimeout(timer)
  if (shown.value) timer = window.setTimeout(look, 300)
})

const before = computed(() => (props.of === 'feed' ? '' : `tables[${props.of}].`))
const faults = computed(() => {
  const found = new Map<string, string>()
  for (const item of wrong.value?.items ?? []) {
    const [where, ...said] = item.split(': ')
    if (where?.startsWith(before.value)) found.set(where.slice(before.value.length), said.join(': '))
  }
  return found
})
/** What is wrong with a setting, with an item of it, or with what it begins. */
const faultOf = (s: Setting) => {
  const at = s.path.join('.')
  const begins = s.path.length > 1 && groups.value.some((g) => g.settings.find((x) => x.path[0] === s.path[0]) === s)
  return (
    faults.value.get(at) ??
    [...faults.value].find(([where]) => where.startsWith(`${at}[`))?.[1] ??
    (begins ? faults.value.get(s.path[0]!) : undefined)
  )
}
/** What is wrong with nothing that is shown here. */
const elsewhere = computed(() => {
  const here = groups.value.flatMap((g) => g.settings).filter((s) => faultOf(s)).length
  return here ? undefined : wrong.value
})
const id = (s: Setting) => `setting-${s.path.join('-')}`

function takeOut() {
  file.value = removeEntry(file.value, props.of as number)
  shown.value = false
}
</script>

<template>
  <ElDialog
    v-model="shown"
    :title="entry ? `Settings of ${entry.table}` : 'Settings of the feed'"
    width="min(760px, 96vw)"
    align-center
    append-to-body>
    <div class="groups" tabindex="0" role="region" aria-label="Settings">
      <section v-for="g in groups" :key="g.title">
        <h3>{{ g.title }}</h3>
        <div v-for="s in g.settings" :key="s.path.join('.')" class="setting">
          <label :for="id(s)"
            >{{ s.label }} <span class="quiet means">{{ s.means }}</span></label
          >
          <div class="entered" :class="{ bad: faultOf(s) }">
            <OneOf
              v-if="s.words"
              :id="id(s)"
              :model-value="text(s)"
              :placeholder="s.empty"
              :aria-label="s.label"
              :words="s.words"
              free
              @change="(v?: string) => set(s, v ?? '')" />
            <ElSelect
              v-else-if="s.list"
              :id="id(s)"
              :model-value="listed(s)"
              size="small"
              multiple
              filterable
              allow-create
              default-first-option
              :reserve-keyword="false"
              :placeholder="s.empty ?? 'none'"
              :aria-label="s.label"
              @change="(v: string[]) => set(s, v)">
              <ElOption v-for="w in s.list === true ? [] : s.list" :key="w" :label="w" :value="w" />
            </ElSelect>
            <ElInput
              v-else
              :id="id(s)"
              :model-value="typed[id(s)] ?? text(s)"
              size="small"
              :type="s.lines ? 'textarea' : 'text'"
              :rows="4"
              :placeholder="s.empty"
              :input-style="s.lines ? 'font-family: var(--mono); font-size: 12px' : ''"
              spellcheck="false"
              :aria-invalid="faultOf(s) ? 'true' : undefined"
              :aria-describedby="faultOf(s) ? `${id(s)}-fault` : undefined"
              @update:model-value="(v: string) => (typed[id(s)] = v)"
              @change="(v: string) => (set(s, v), delete typed[id(s)])" />
            <div v-if="faultOf(s)" :id="`${id(s)}-fault`" class="fault" role="alert">{{ faultOf(s) }}</div>
          </div>
        </div>
      </section>
      <TroubleBox :trouble="elsewhere" />
    </div>
    <template #footer>
      <ElButton v-if="removable" text @click="takeOut">Take it out of the feed</ElButton>
      <ElButton type="primary" @click="shown = false">Done</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
.groups {
  max-height: 70vh;
  overflow: auto;
  font-size: 13px;
}
h3 {
  margin: 14px 0 6px;
  font-size: 13px;
}
section:first-child h3 {
  margin-top: 0;
}
.setting {
  display: grid;
  grid-template-columns: minmax(0, 1.1fr) minmax(0, 1fr);
  gap: 14px;
  align-items: start;
  margin-bottom: 5px;
}
.setting label {
  padding-top: 3px;
}
.means {
  font-size: 12px;
}
.fault {
  color: var(--bad);
  font-size: 12px;
  margin-top: 2px;
}
.bad :deep(.el-input__wrapper),
.bad :deep(.el-select__wrapper),
.bad :deep(.el-textarea__inner) {
  box-shadow: 0 0 0 1px var(--bad) inset;
}
@media (max-width: 720px) {
  .setting {
    grid-template-columns: 1fr;
    gap: 0;
  }
}
</style>
