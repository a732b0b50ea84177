<script setup lang="ts">
import { ref, watch } from 'vue'
import { api, ask, type Schemas, type Trouble } from '../api'
import { at, bytes, count, plural, span } from '../words'
import TroubleBox from './TroubleBox.vue'

// What feeds cost a source. It is asked when somebody looks.
const props = defineProps<{ source: string }>()
const burden = ref<Schemas['Burden']>()
const wrong = ref<Trouble>()
const days = ref(1)
const spans = [
  { days: 1, name: 'today' },
  { days: 7, name: '7 days' },
  { days: 30, name: '30 days' },
]
watch(
  days,
  async () => {
    const { data, trouble } = await ask(
      api.GET('/api/v1/sources/{name}/burden', {
        params: { path: { name: props.source }, query: { days: days.value } },
      }),
    )
    burden.value = data
    wrong.value = trouble
  },
  { immediate: true },
)
</script>

<template>
  <TroubleBox :trouble="wrong" />
  <div v-if="burden" class="burden">
    <p class="pad">
      {{ plural(burden.connections, 'connection') }} open now<template v-if="burden.bound"
        >, of {{ burden.bound }} that a process may open beside those for logs</template
      >. Copies, backfills, proofs and repairs begin
      {{ burden.heavy_hours ? `in the hours ${burden.heavy_hours}` : 'at any time' }}.
      <span class="quiet">Asked {{ at(burden.at) }}.</span>
      <span role="group" class="spans" aria-label="How many days are added up, in UTC">
        <button
          v-for="s in spans"
          :key="s.days"
          type="button"
          class="choice"
          :aria-pressed="s.days === days"
          @click="days = s.days">
          {{ s.name }}
        </button>
      </span>
    </p>
    <div class="scroll">
      <table class="rows">
        <thead>
          <tr>
            <th scope="col">Feed</th>
            <th class="n" scope="col">Statements</th>
            <th class="n" scope="col">Their time</th>
            <th class="n" scope="col">Rows read</th>
            <th class="n" scope="col">Size</th>
            <th class="n" scope="col">Log kept for it</th>
            <th class="n" scope="col">Growth an hour</th>
            <th class="n" scope="col">Let go in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="f in burden.feeds" :key="f.feed">
            <td>
              <RouterLink :to="`/feeds/${f.feed}`">{{ f.feed }}</RouterLink>
            </td>
            <td class="n">{{ count(f.statements) }}</td>
            <td class="n nowrap">{{ span(f.statement_seconds) }}</td>
            <td class="n">{{ count(f.rows) }}</td>
            <td class="n nowrap">{{ bytes(f.bytes) }}</td>
            <td class="n nowrap">{{ f.retained_bytes ? bytes(f.retained_bytes) : '–' }}</td>
            <td class="n nowrap">
              {{
                f.growth_bytes_per_hour === undefined ? '–' : bytes(Math.round(Math.max(f.growth_bytes_per_hour, 0)))
              }}
            </td>
            <td class="n nowrap">{{ f.lasts_seconds === undefined ? '–' : span(f.lasts_seconds) }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="!burden.feeds.length" class="pad quiet">No feed reads it.</p>
    </div>
  </div>
</template>

<style scoped>
.burden {
  border-top: 1px solid var(--line);
}
.spans {
  float: right;
}
</style>
