<script setup lang="ts">
import type { Trouble } from '../api'

defineProps<{ trouble?: Trouble; warn?: boolean }>()
</script>

<template>
  <div v-if="trouble" class="trouble" :class="{ warn }" role="alert">
    <p><slot></slot>{{ trouble.what }}</p>
    <p v-if="trouble.remedy">{{ trouble.remedy }}</p>
  </div>
</template>
