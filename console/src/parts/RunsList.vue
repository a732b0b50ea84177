<script setup lang="ts">
import type { Run } from '../api'
import { between, span } from '../words'
import Rows from './Rows.vue'
import State from './State.vue'
import When from './When.vue'

defineProps<{ runs: Run[]; now: number; feed?: boolean }>()
</script>

<template>
  <div class="scroll">
    <table class="rows">
      <thead>
        <tr>
          <th class="n" scope="col">Run</th>
          <th v-if="feed" scope="col">Feed</th>
          <th scope="col">State</th>
          <th scope="col">Started by</th>
          <th class="n" scope="col">Read</th>
          <th class="n" scope="col">Inserted</th>
          <th class="n" scope="col">Updated</th>
          <th class="n" scope="col">Unchanged</th>
          <th class="n" scope="col">Filtered</th>
          <th class="n" scope="col">Set aside</th>
          <th class="n" scope="col">Took</th>
          <th class="n" scope="col">Began</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in runs" :key="r.id">
          <td class="n">
            <RouterLink :to="`/runs/${r.id}`">{{ r.id }}</RouterLink>
          </td>
          <td v-if="feed">
            <RouterLink :to="`/feeds/${r.feed}`">{{ r.feed }}</RouterLink>
          </td>
          <td><State :state="r.state" /></td>
          <td>{{ r.trigger }}</td>
          <td class="n"><Rows :n="r.books.read" /></td>
          <td class="n"><Rows :n="r.books.inserted" /></td>
          <td class="n"><Rows :n="r.books.updated" /></td>
          <td class="n"><Rows :n="r.books.unchanged" /></td>
          <td class="n"><Rows :n="r.books.filtered" /></td>
          <td class="n"><Rows :n="r.books.set_aside" /></td>
          <td class="n">{{ r.started_at ? span(between(r.started_at, r.ended_at, now)) : '–' }}</td>
          <td class="n"><When :time="r.started_at" :now="now" /></td>
        </tr>
      </tbody>
    </table>
  </div>
</template>
