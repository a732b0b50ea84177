<script setup lang="ts" generic="T extends string">
import { ElOption, ElSelect } from 'element-plus'

// A small choice of words. Where it is free, another word can be written, or none.
const chosen = defineModel<T>()
defineProps<{ words: readonly T[]; free?: boolean }>()
</script>

<template>
  <ElSelect v-model="chosen" size="small" :clearable="free" :filterable="free" :allow-create="free">
    <ElOption v-for="w in words" :key="w" :label="w" :value="w" />
  </ElSelect>
</template>
