<script setup lang="ts">
import type { Offer, Taken } from '../api'
import { bytes, span } from '../words'
import State from './State.vue'

// What a test of a connection found, step by step, and what a source offers.
defineProps<{ steps: Taken[]; offer?: Offer }>()
const state = (s: Taken) => (!s.done ? 'failed' : s.warns ? 'behind' : 'done')
</script>

<template>
  <table class="rows steps">
    <caption class="visually-hidden">
      Steps of the test
    </caption>
    <thead>
      <tr>
        <th scope="col">Step</th>
        <th scope="col">State</th>
        <th scope="col">Found</th>
        <th class="n" scope="col">Took</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="s in steps" :key="s.step">
        <td>{{ s.step }}</td>
        <td><State :state="state(s)" :word="s.done && s.warns ? 'look' : undefined" /></td>
        <td class="found">
          {{ s.said || '–' }}
          <div v-if="s.remedy" class="quiet">{{ s.remedy }}</div>
        </td>
        <td class="n">{{ span(s.took) }}</td>
      </tr>
    </tbody>
  </table>
  <template v-if="offer">
    <p>
      <template v-if="offer.no_log"
        >There is no change log to follow: changes are found by watermark, by comparison, or as a whole.</template
      >
      <template v-else>The change log {{ offer.log ? 'can be followed' : 'cannot be followed yet' }}.</template>
      <template v-if="offer.log_per_hour >= 0"
        >By the average of the last {{ span(offer.log_over) }}, the server writes {{ bytes(offer.log_per_hour) }} of
        it in an hour, and keeps that for each hour that a feed is paused.</template
      >
    </p>
    <p v-for="(f, i) in offer.findings" :key="i">
      <strong>{{ f.level }}</strong> {{ f.what }} <span class="quiet">{{ f.remedy }}</span>
    </p>
  </template>
</template>

<style scoped>
.steps {
  margin: 8px 0;
  font-size: 13px;
}
.found {
  white-space: normal;
  overflow-wrap: anywhere;
}
</style>
