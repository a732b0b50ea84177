<script setup lang="ts">
import { ElInput } from 'element-plus'

// A file as its text, to be written.
const text = defineModel<string>({ required: true })
defineProps<{ rows: number; label: string }>()
</script>

<template>
  <ElInput
    v-model="text"
    type="textarea"
    :rows="rows"
    input-style="font-family: var(--mono); font-size: 12px"
    :aria-label="label"
    spellcheck="false" />
</template>
