<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { useActs } from '../act'
import { api, ask, type DerivedSet, type DerivedTable, type Trouble } from '../api'
import { useLive } from '../live'
import DerivedFile from '../parts/DerivedFile.vue'
import DerivedMakings from '../parts/DerivedMakings.vue'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { useSession } from '../session'
import { count, labelsOf, plural, span, useNow } from '../words'

// What SQL makes in the warehouses of the tables that feeds keep there.
const session = useSession()
const route = useRoute()
const sets = ref<DerivedSet[]>()
const wrong = ref<Trouble>()
const now = useNow()
const only = ref('')
const shown = ref(String(route.query.table ?? ''))
const file = ref(false)
const content = ref<string>()
const mayOperate = computed(() => session.role === 'operate' || session.role === 'administer')

const refresh = useLive(
  async () => {
    const { data, trouble } = await ask(api.GET('/api/v1/derived'))
    if (data) sets.value = data
    wrong.value = trouble
  },
  (event) => event.kind === 'derived' || event.kind === 'run',
)
const { busy, refused, act } = useActs(refresh)

const fits = (s: DerivedSet) =>
  s.tables.filter((t) => `${s.name} ${s.warehouse} ${t.table} ${t.state}`.includes(only.value.trim()))
const troubled = computed(() => (sets.value ?? []).flatMap((s) => s.tables).filter((t) => t.problem).length)
const key = (s: DerivedSet, t: DerivedTable) => `${s.name}/${t.table}`
const failing = (t: DerivedTable) => t.checks.filter((c) => !c.holds)

const make = (s: DerivedSet, tables: string[] = []) =>
  act(`make ${s.name} ${tables.join()}`, () =>
    ask(api.POST('/api/v1/derived/{name}/makings', { params: { path: { name: s.name } }, body: { tables } })),
  )
const pause = (s: DerivedSet) =>
  act(`pause ${s.name}`, () =>
    ask(
      s.state === 'active'
        ? api.POST('/api/v1/derived/{name}/pause', { params: { path: { name: s.name } } })
        : api.POST('/api/v1/derived/{name}/start', { params: { path: { name: s.name } } }),
    ),
  )
const remove = (s: DerivedSet) =>
  act(
    `remove ${s.name}`,
    () => ask(api.DELETE('/api/v1/derived/{name}', { params: { path: { name: s.name }, query: { drop: true } } })),
    {
      title: 'Remove the derived tables',
      text: `Remove ${s.name}, and drop its ${plural(s.tables.length, 'table')} in ${s.warehouse}? What they read stays.`,
      yes: 'Remove and drop',
    },
  )

async function change(s?: DerivedSet) {
  content.value = undefined
  if (s) {
    const { data, trouble } = await ask(
      api.GET('/api/v1/derived/{name}/file', { params: { path: { name: s.name } } }),
    )
    if (!data) return (refused.value = trouble)
    content.value = data.file
  }
  file.value = true
}
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>Derived tables</h1>
        <div class="quiet">
          {{
            troubled
              ? `${plural(troubled, 'table')} not made as the file has ${troubled === 1 ? 'it' : 'them'}`
              : 'what SQL makes in the warehouses of the tables that feeds keep there'
          }}
        </div>
      </div>
      <span class="grow"></span>
      <ElInput v-model="only" class="only" placeholder="only those with…" aria-label="Only those with" clearable />
      <ElButton v-if="mayOperate" type="primary" @click="change()">Apply a file…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox :trouble="refused" />
    <p v-if="!sets && !wrong" class="quiet" role="status">Loading…</p>
    <p v-if="sets && !sets.length" class="sheet pad quiet">
      Nothing is derived yet. A file says in SQL what is to be made of the tables in a warehouse, and when;
      docs/derived-tables.md has an example.
    </p>
    <section v-for="s in (sets ?? []).filter((s) => fits(s).length)" :key="s.name" class="sheet" :aria-label="s.name">
      <header>
        <h2>{{ s.name }}</h2>
        <span class="quiet"
          >in {{ s.warehouse
          }}<template v-if="s.owner || s.team"> · {{ [s.owner, s.team].filter(Boolean).join(', ') }}</template> ·
          applied by {{ s.applied_by }} <When :time="s.applied_at" :now="now"
        /></span>
        <span v-for="l in labelsOf(s.labels)" :key="l" class="label">{{ l }}</span>
        <State v-if="s.state === 'paused'" state="paused" />
        <span class="grow"></span>
        <template v-if="mayOperate">
          <ElButton size="small" :loading="busy === `make ${s.name} `" @click="make(s)">Make all</ElButton>
          <ElButton size="small" :loading="busy === `pause ${s.name}`" @click="pause(s)">{{
            s.state === 'active' ? 'Pause' : 'Start'
          }}</ElButton>
          <ElButton size="small" @click="change(s)">File…</ElButton>
          <ElButton size="small" text @click="remove(s)">Remove…</ElButton>
        </template>
      </header>
      <div class="scroll">
        <table class="rows tight">
          <thead>
            <tr>
              <th scope="col">Table</th>
              <th scope="col">Is</th>
              <th scope="col">State</th>
              <th scope="col" class="n">Rows</th>
              <th scope="col">Made</th>
              <th scope="col">When</th>
              <th scope="col" class="n">Took</th>
              <th scope="col">Checks</th>
              <th scope="col">Reads</th>
            </tr>
          </thead>
          <tbody>
            <template v-for="t in fits(s)" :key="t.table">
              <tr>
                <td>
                  <button
                    class="link mono"
                    type="button"
                    :aria-expanded="shown === key(s, t)"
                    @click="shown = shown === key(s, t) ? '' : key(s, t)">
                    {{ t.table }}
                  </button>
                  <div v-if="t.comment" class="quiet">{{ t.comment }}</div>
                </td>
                <td>{{ t.as }}</td>
                <td><State :state="t.state" /></td>
                <td class="n">{{ count(t.rows) }}</td>
                <td class="nowrap"><When :time="t.made_at" :now="now" /></td>
                <td>{{ t.when }}</td>
                <td class="n">{{ t.made_at ? span(t.took_seconds) : '–' }}</td>
                <td>
                  <span v-if="failing(t).length" class="bad"
                    >{{ failing(t).length }} of {{ t.checks.length }} fail</span
                  ><span v-else-if="t.checks.length">{{ t.checks.length }} hold</span
                  ><span v-else class="quiet">–</span>
                </td>
                <td class="mono reads">{{ t.reads.join(', ') }}</td>
              </tr>
              <tr v-if="(t.why && t.state !== 'making') || (t.problem && shown !== key(s, t))" class="why">
                <td colspan="9">
                  <span v-if="t.problem" class="bad">{{ t.problem.what }}</span>
                  <span v-else class="quiet">{{ t.why }}</span>
                </td>
              </tr>
              <tr v-if="shown === key(s, t)" class="more">
                <td colspan="9">
                  <DerivedMakings :set="s.name" :warehouse="s.warehouse" :table="t" :now="now" :may="mayOperate">
                    <ElButton
                      v-if="mayOperate"
                      size="small"
                      :loading="busy === `make ${s.name} ${t.table}`"
                      @click="make(s, [t.table])"
                      >Make now</ElButton
                    >
                  </DerivedMakings>
                </td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
    </section>
    <DerivedFile v-model="file" :content="content" @applied="refresh" />
  </div>
</template>

<style scoped>
.reads {
  color: var(--ink-2);
  overflow-wrap: anywhere;
  min-width: 200px;
}
.bad {
  color: var(--bad);
}
tr.why td {
  padding-top: 0;
}
tr:has(+ tr.why) td {
  border-bottom: 0;
}
tr.more > td {
  padding: 0 14px 14px;
}
tr.more:hover,
tr.why:hover {
  background: none;
}
</style>
