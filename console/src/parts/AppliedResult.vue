<script setup lang="ts">
import type { Finding, Schemas } from '../api'
import ChangesList from './ChangesList.vue'
import FindingsList from './FindingsList.vue'

// What applying a file has come to, or would: of a feed, or of derived tables.
const props = defineProps<{
  result: { new: boolean; applied: boolean; changes: Schemas['Change'][]; findings: Finding[] }
  of: string
  many?: boolean
  file?: string
}>()
const emit = defineEmits<{ found: [findings: Finding[]] }>()
const said = () => {
  const [is, it] = props.many ? ['are', 'them'] : ['is', 'it']
  const r = props.result
  if (r.applied) return `${props.of} ${is} as the file has ${it}.`
  if (r.new) return `${props.of} would be new.`
  return r.changes.length ? `${props.of} would change:` : `${props.of} ${is} as the file has ${it} already.`
}
</script>

<template>
  <p>
    <strong>{{ said() }}</strong> <slot></slot>
  </p>
  <ChangesList v-if="!result.new && result.changes.length" :changes="result.changes" />
  <FindingsList :findings="result.findings" :file="file" @found="(now) => emit('found', now)" />
</template>
