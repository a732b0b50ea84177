<script setup lang="ts">
import { ElButton, ElDialog } from 'element-plus'
import { ref, watch } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas } from '../api'
import AppliedResult from './AppliedResult.vue'
import FileText from './FileText.vue'
import TroubleBox from './TroubleBox.vue'

// A file of derived tables, to be checked and applied.
const open = defineModel<boolean>({ required: true })
const props = defineProps<{ content?: string }>()
const emit = defineEmits<{ applied: [] }>()

const example = `derived: reading
warehouse: lake
tables:
  - table: reading.loans_by_branch
    comment: How many loans each branch has had
    sql: |
      SELECT branch, count(*) AS loans
      FROM circulation.loans
      GROUP BY branch
    checks:
      - unique: [branch]
`
const file = ref('')
const result = ref<Schemas['DerivedApplied']>()
const { busy, refused, act } = useActs()

watch(open, (is) => {
  if (!is) return
  file.value = props.content ?? example
  result.value = refused.value = undefined
})

async function send(dryRun: boolean) {
  result.value = undefined
  const { data } = await act(dryRun ? 'check' : 'apply', () =>
    ask(api.POST('/api/v1/derived-files', { body: { file: file.value, dry_run: dryRun } })),
  )
  result.value = data
  if (data?.applied) emit('applied')
}
</script>

<template>
  <ElDialog
    v-model="open"
    title="Apply a file of derived tables"
    width="min(1080px, 94vw)"
    align-center
    append-to-body>
    <FileText v-model="file" :rows="result || refused ? 14 : 24" label="The file of derived tables, in YAML" />
    <div class="result" aria-live="polite">
      <TroubleBox :trouble="refused" />
      <AppliedResult v-if="result" :result="result" :of="`The derived tables ${result.set}`" many>
        <template v-if="result.order.length">They are made in this order: {{ result.order.join(', ') }}.</template>
      </AppliedResult>
    </div>
    <template #footer>
      <ElButton :loading="busy === 'check'" @click="send(true)">Check</ElButton>
      <ElButton type="primary" :loading="busy === 'apply'" @click="send(false)">Apply</ElButton>
    </template>
  </ElDialog>
</template>

<style scoped>
.result {
  margin-top: 12px;
  max-height: 40vh;
  overflow: auto;
}
</style>
