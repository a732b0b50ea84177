<script setup lang="ts">
import { ago, at } from '../words'

defineProps<{ time?: string; now: number }>()
</script>

<template>
  <time v-if="time" :datetime="time" :title="at(time)">{{ ago(time, now) }}</time>
  <span v-else class="quiet">never</span>
</template>
