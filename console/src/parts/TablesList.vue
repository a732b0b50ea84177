<script setup lang="ts">
import type { TableStatus } from '../api'
import { progress, progressKey } from '../live'
import { count } from '../words'
import Lag from './Lag.vue'
import ProofMark from './ProofMark.vue'
import State from './State.vue'
import When from './When.vue'

defineProps<{ tables: TableStatus[]; now: number; position?: boolean }>()

function share(t: TableStatus): string {
  const p = progress.get(progressKey(t.feed, t.table))
  if (!p?.read || p.phase === 'following') return ''
  return p.expected && p.expected > p.read ? `${count(p.read)} of about ${count(p.expected)}` : count(p.read)
}
</script>

<template>
  <div class="scroll">
    <table class="rows" :class="{ tight: position }">
      <thead>
        <tr>
          <th scope="col">Table</th>
          <th scope="col">State</th>
          <th scope="col">Kept as</th>
          <th class="n" scope="col">Rows</th>
          <th class="n" scope="col">Lag</th>
          <th class="n" scope="col">Last change</th>
          <th v-if="position" scope="col">Position</th>
          <th v-if="!position" class="n" scope="col">Last run</th>
          <th scope="col">Last proof</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in tables" :key="t.table">
          <td class="nowrap">
            <RouterLink :to="{ path: `/feeds/${t.feed}/table`, query: { name: t.table } }">{{ t.table }}</RouterLink>
          </td>
          <td class="nowrap">
            <State :state="t.state" />
            <span v-if="share(t)" class="quiet share">{{ share(t) }}</span>
          </td>
          <td class="nowrap">
            {{ t.keep }}<span class="quiet">, {{ t.find }}</span>
          </td>
          <td class="n">{{ count(t.rows) }}</td>
          <td class="n"><Lag :complete-at="t.complete_at" :promised="t.promised_seconds" :now="now" /></td>
          <td class="n">
            <template v-if="t.changed_at"
              >{{ count(t.changed) }} <span class="quiet">· <When :time="t.changed_at" :now="now" /></span
            ></template>
            <span v-else class="quiet">–</span>
          </td>
          <td v-if="position" class="mono nowrap">{{ t.position || '–' }}</td>
          <td v-if="!position" class="n"><When :time="t.last_run_at" :now="now" /></td>
          <td class="nowrap"><ProofMark :proof="t.proof" :now="now" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>

<style scoped>
.share {
  margin-left: 8px;
}
</style>
