<script setup lang="ts">
import type { Preview } from '../api'
import { count } from '../words'

// Rows of a table before and after a feed file has shaped them.
defineProps<{ preview: Preview }>()
</script>

<template>
  <div>
    <p>
      <strong>{{ preview.table }}:</strong> {{ count(preview.read) }} rows looked at;
      {{ count(preview.read - preview.filtered - preview.set_aside) }} arrive, {{ count(preview.filtered) }} are left
      out by the filter, {{ count(preview.set_aside) }} are set aside. Nothing was written.
    </p>
    <template v-for="side in ['before', 'after'] as const" :key="side">
      <h3>{{ side === 'before' ? 'At the source' : 'In the warehouse' }}</h3>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th class="n" scope="col">Row</th>
              <th v-for="c in preview[side]" :key="c" scope="col">{{ c }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(r, i) in preview.rows" :key="i">
              <td class="n">{{ i + 1 }}</td>
              <template v-if="r[side]?.length"
                ><td
                  v-for="(v, k) in r[side]"
                  :key="k"
                  class="value"
                  :class="{ quiet: v == null || v === '(hidden)' }">
                  {{ v ?? '∅' }}
                </td></template
              >
              <td v-else class="quiet" :colspan="preview[side].length">{{ r.why }}</td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
h3 {
  font-size: 13px;
  margin: 10px 0 4px;
}
.value {
  white-space: nowrap;
  max-width: 15em;
  overflow: hidden;
  text-overflow: ellipsis;
}
</style>
