<script setup lang="ts">
import { ElButton, ElDialog, ElInput } from 'element-plus'
import { ref, watch } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas } from '../api'
import ChangesList from './ChangesList.vue'
import FindingsList from './FindingsList.vue'
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
    <ElInput
      v-model="file"
      type="textarea"
      :rows="result || refused ? 14 : 24"
      input-style="font-family: var(--mono); font-size: 12px"
      aria-label="The file of derived tables, in YAML"
      spellcheck="false" />
    <div class="result" aria-live="polite">
      <TroubleBox :trouble="refused" />
      <template v-if="result">
        <p>
          <strong v-if="result.applied">The derived tables {{ result.set }} are as the file has them.</strong>
          <strong v-else-if="result.new">The derived tables {{ result.set }} would be new.</strong>
          <strong v-else-if="result.changes.length === 0"
            >The derived tables {{ result.set }} are as the file has them already.</strong
          >
          <strong v-else>The derived tables {{ result.set }} would change:</strong>
          <template v-if="result.order.length"> They are made in this order: {{ result.order.join(', ') }}.</template>
        </p>
        <ChangesList v-if="!result.new && result.changes.length" :changes="result.changes" />
        <FindingsList :findings="result.findings" />
      </template>
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
