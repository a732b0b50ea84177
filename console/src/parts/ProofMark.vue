<script setup lang="ts">
import type { Schemas } from '../api'
import { ago, at, plural } from '../words'

defineProps<{ proof?: Schemas['Proof']; now: number }>()
</script>

<template>
  <span v-if="!proof" class="quiet">never</span>
  <span v-else-if="proof.same" :title="`${at(proof.at)}, at position ${proof.position}`"
    >= {{ plural(proof.equal, 'row') }}, {{ ago(proof.at, now) }}</span
  >
  <strong v-else class="no" :title="at(proof.at)"
    >not equal in {{ plural(proof.differing + proof.missing + proof.extra, 'row') }}, {{ ago(proof.at, now) }}</strong
  >
</template>

<style scoped>
.no {
  color: var(--bad);
}
</style>
