<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas } from '../api'
import { at, span } from '../words'
import TroubleBox from './TroubleBox.vue'

// The versions of one row of a history: how long each held, and what changed.
const props = defineProps<{ feed: string; table: string; keyColumns: string[]; now: number }>()
const key = ref<string[]>(props.keyColumns.map(() => ''))
const found = ref<Schemas['Versions']>()
const { busy, refused, act } = useActs()

async function look() {
  const { data } = await act('look', () =>
    ask(
      api.GET('/api/v1/feeds/{name}/versions', {
        params: { path: { name: props.feed }, query: { table: props.table, key: key.value } },
      }),
    ),
  )
  found.value = data
}

type Version = Schemas['Version']
const versions = computed(() => found.value?.versions ?? [])
const start = computed(() => Date.parse(versions.value[0]?.from ?? ''))
const width = computed(() => Math.max(props.now - start.value, 1))
const left = (v: Version) => `${((Date.parse(v.from ?? '') - start.value) / width.value) * 100}%`
const right = (v: Version) =>
  `${(1 - ((v.until ? Date.parse(v.until) : props.now) - start.value) / width.value) * 100}%`
const held = (v: Version) => span(((v.until ? Date.parse(v.until) : props.now) - Date.parse(v.from ?? '')) / 1000)
const gap = (i: number) => i > 0 && versions.value[i - 1]?.until !== versions.value[i]?.from
const shown = (value: string | null | undefined) =>
  value == null ? 'null' : value.length > 120 ? `${value.slice(0, 119)}…` : value
const changes = (i: number) =>
  (found.value?.columns ?? [])
    .map((name, c) => ({ name, was: versions.value[i - 1]?.values?.[c], is: versions.value[i]?.values?.[c] }))
    .filter((x) => i === 0 || (versions.value[i]?.changed ?? []).includes(x.name))
</script>

<template>
  <section class="sheet" aria-label="Versions of a row">
    <header>
      <h2>Versions of a row</h2>
      <form class="ask" @submit.prevent="look">
        <label v-for="(name, i) in keyColumns" :key="name"
          >{{ name }} <ElInput v-model="key[i]" size="small"
        /></label>
        <ElButton native-type="submit" size="small" :loading="busy === 'look'" :disabled="key.some((k) => !k)"
          >Look</ElButton
        >
      </form>
    </header>
    <TroubleBox :trouble="refused" />
    <p v-if="!found && !refused" class="pad quiet">
      Give a key, and see how that row was at every moment since it was first copied.
    </p>
    <p v-else-if="found && !versions.length" class="pad quiet">The history has no row with this key.</p>
    <template v-else-if="found">
      <div class="strip" role="img" :aria-label="`${versions.length} versions since ${at(versions[0]?.from)}`">
        <span
          v-for="(v, i) in versions"
          :key="i"
          class="span"
          :class="{ holds: !v.until }"
          :style="{ left: left(v), right: right(v) }"
          :title="`version ${i + 1}, ${held(v)}`"></span>
      </div>
      <ol class="list" reversed>
        <li v-for="i in [...versions.keys()].reverse()" :key="i">
          <div v-if="i === versions.length - 1 && versions[i]?.until" class="gone">
            deleted {{ at(versions[i]?.until) }}
          </div>
          <div class="moment">
            <b>{{ at(versions[i]?.from) }}</b>
            <span class="quiet"
              >{{ i === 0 ? 'the first that is known' : gap(i) ? 'inserted again' : 'changed' }},
              {{ versions[i]?.until ? `held for ${held(versions[i] as Version)}` : 'holds' }}</span
            >
          </div>
          <table class="what">
            <tbody>
              <tr v-for="x in changes(i)" :key="x.name">
                <th scope="row">{{ x.name }}</th>
                <td v-if="i > 0" class="was">{{ shown(x.was) }}</td>
                <td :class="{ null: x.is == null }">{{ shown(x.is) }}</td>
              </tr>
            </tbody>
          </table>
          <div v-if="gap(i)" class="gone">deleted {{ at(versions[i - 1]?.until) }}</div>
        </li>
      </ol>
    </template>
  </section>
</template>

<style scoped>
.ask {
  display: flex;
  gap: 10px;
  align-items: center;
  margin-left: 12px;
}
.ask label {
  display: flex;
  gap: 6px;
  align-items: center;
  color: var(--ink-2);
  font-size: 12px;
  white-space: nowrap;
}
.strip {
  position: relative;
  height: 16px;
  margin: 14px 16px 4px;
  border-bottom: 1px solid var(--ink-3);
}
.span {
  position: absolute;
  top: 3px;
  bottom: 0;
  min-width: 3px;
  background: var(--act-soft);
  border-left: 2px solid var(--act);
}
.span.holds {
  background: var(--act);
}
.list {
  margin: 0;
  padding: 4px 16px 12px 40px;
  max-height: 420px;
  overflow: auto;
}
.list li {
  padding: 8px 0;
  border-bottom: 1px solid var(--line-soft);
  color: var(--ink-3);
}
.list li > * {
  color: var(--ink);
}
.moment {
  display: flex;
  gap: 12px;
  align-items: baseline;
}
.what {
  border-collapse: collapse;
  margin-top: 4px;
}
.what th {
  text-align: left;
  font-weight: 400;
  color: var(--ink-2);
  padding: 1px 14px 1px 0;
  vertical-align: top;
}
.what td {
  padding: 1px 14px 1px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
}
.was {
  color: var(--ink-3) !important;
  text-decoration: line-through;
}
.null {
  color: var(--ink-3) !important;
  font-style: italic;
}
.gone {
  color: var(--warn) !important;
  padding-top: 4px;
}
</style>
