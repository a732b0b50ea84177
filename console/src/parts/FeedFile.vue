<script setup lang="ts">
import { ElButton, ElDialog, ElOption, ElSelect } from 'element-plus'
import { computed, ref, watch } from 'vue'
import { useActs } from '../act'
import { api, ask, type Applied, type Preview } from '../api'
import AppliedResult from './AppliedResult.vue'
import FileText from './FileText.vue'
import PreviewRows from './PreviewRows.vue'
import ProposeFeed from './ProposeFeed.vue'
import TroubleBox from './TroubleBox.vue'

// A feed file, to be checked and applied.
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ content?: string }>()
const emit = defineEmits<{ applied: [feed: string] }>()

const example = `feed: loans
source: circulation
warehouse: lake
every: 30s
target: "{source}.{table}"
tables:
  - table: public.loans
    find: watermark
    watermark: {column: updated_at}
    keep: latest
`
const file = ref('')
const result = ref<Applied>()
const preview = ref<Preview>()
const table = ref('')
/** The tables that the file names; those that a pattern stands for can be written. */
const tables = computed(() => [
  ...[...file.value.matchAll(/^\s*-\s*\{?\s*table:\s*['"]?([^\s'",}#]+)/gm)]
    .map((m) => m[1]!)
    .filter((name) => !name.includes('*')),
  ...[...file.value.matchAll(/^\s*(?:-\s*)?name:\s*(\w+)/gm)].map((m) => `queries.${m[1]!}`),
])
const { busy, refused, act } = useActs()

watch(tables, (names) => {
  if (!names.includes(table.value)) table.value = names[0] ?? ''
})

watch(open, (is) => {
  if (!is) return
  file.value = props.content ?? example
  result.value = preview.value = refused.value = undefined
  table.value = tables.value[0] ?? ''
})

function take(proposed: string) {
  file.value = proposed
  result.value = preview.value = undefined
}

async function show() {
  result.value = preview.value = undefined
  const { data } = await act('preview', () =>
    ask(api.POST('/api/v1/previews', { body: { file: file.value, table: table.value, rows: 5 } })),
  )
  preview.value = data
}

async function send(dryRun: boolean) {
  result.value = preview.value = undefined
  const { data } = await act(dryRun ? 'check' : 'apply', () =>
    ask(api.POST('/api/v1/feed-files', { body: { file: file.value, dry_run: dryRun } })),
  )
  result.value = data
  if (data?.applied) emit('applied', data.feed)
}
</script>

<template>
  <ElDialog v-model="open" title="Apply a feed file" width="min(1080px, 94vw)" align-center append-to-body>
    <ProposeFeed v-if="open && props.content === undefined" :brief="!!result || !!preview" @proposed="take" />
    <FileText v-model="file" :rows="preview || result ? 10 : 18" label="The feed file, in YAML" />
    <div class="result" aria-live="polite">
      <TroubleBox :trouble="refused" />
      <PreviewRows v-if="preview" :preview="preview" />
      <AppliedResult
        v-if="result"
        :result="result"
        :of="`The feed ${result.feed}`"
        :file="file"
        @found="(now) => (result!.findings = now)">
        <template v-if="result.applied && result.new">Start it on its page.</template>
      </AppliedResult>
    </div>
    <template #footer>
      <ElSelect
        v-model="table"
        class="which"
        filterable
        allow-create
        placeholder="a table"
        aria-label="The table to preview">
        <ElOption v-for="name in tables" :key="name" :label="name" :value="name" />
      </ElSelect>
      <ElButton :loading="busy === 'preview'" :disabled="!table" @click="show">Preview</ElButton>
      <ElButton :loading="busy === 'check'" @click="send(true)">Check</ElButton>
      <ElButton type="primary" :loading="busy === 'apply'" @click="send(false)">Apply</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
.which {
  width: 220px;
  margin-right: 8px;
}
.result {
  margin-top: 12px;
  max-height: 46vh;
  overflow: auto;
}
</style>
