<script setup lang="ts">
import { api, ask } from '../api'
import { useList } from '../list'
import TroubleBox from './TroubleBox.vue'
import When from './When.vue'

// What has changed of the structure of a feed's tables: looked up when a run has ended.
const props = defineProps<{ feed: string; run?: number; now: number }>()
const { list: drifts, wrong } = useList(
  () => [props.feed, props.run],
  () => ask(api.GET('/api/v1/feeds/{name}/drifts', { params: { path: { name: props.feed } } })),
)
</script>

<template>
  <TroubleBox :trouble="wrong" />
  <section v-if="drifts.length" class="sheet" aria-label="Drifts">
    <header>
      <h2>Drifts</h2>
      <span class="quiet">what has changed of the structure of tables</span>
    </header>
    <div class="scroll">
      <table class="rows">
        <thead>
          <tr>
            <th scope="col">Table</th>
            <th scope="col">Of its</th>
            <th scope="col">What was noticed</th>
            <th scope="col">What was done</th>
            <th class="n" scope="col">Run</th>
            <th class="n" scope="col">When</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(d, i) in drifts" :key="i">
            <td>
              <RouterLink :to="{ path: `/feeds/${feed}/table`, query: { name: d.table } }">{{ d.table }}</RouterLink>
            </td>
            <td>{{ d.kind }}</td>
            <td class="sentence">{{ d.what }}</td>
            <td class="sentence">{{ d.done }}</td>
            <td class="n">
              <RouterLink :to="`/runs/${d.run}`">{{ d.run }}</RouterLink>
            </td>
            <td class="n"><When :time="d.at" :now="now" /></td>
          </tr>
        </tbody>
      </table>
    </div>
  </section>
</template>

<style scoped>
.sentence {
  white-space: normal;
  min-width: 16em;
  max-width: 34em;
}
</style>
