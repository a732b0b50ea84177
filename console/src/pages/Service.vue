<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas, type Trouble } from '../api'
import { useLive } from '../live'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { useSession } from '../session'
import { bytes, count, plural, useNow } from '../words'

// The service itself: the processes that share the work, where warehouse files are, and how long things are kept.
const session = useSession()
const processes = ref<Schemas['Process'][]>()
const places = ref<Schemas['Place'][]>([])
const kept = ref<Schemas['Retention'][]>([])
const wrong = ref<Trouble>()
const now = useNow()

const refresh = useLive(
  async () => {
    const [p, l, k] = await Promise.all([
      ask(api.GET('/api/v1/processes')),
      ask(api.GET('/api/v1/places')),
      ask(api.GET('/api/v1/retention')),
    ])
    if (p.data) processes.value = p.data
    if (l.data) places.value = l.data
    if (k.data) kept.value = k.data
    wrong.value = p.trouble ?? l.trouble ?? k.trouble
  },
  (event) => event.kind === 'run',
)
const { busy, refused, act } = useActs(refresh)
const administers = computed(() => session.role === 'administer')
const total = computed(() => kept.value.reduce((n, k) => n + k.bytes, 0))

const drain = (id: string) =>
  act(`drain ${id}`, () => ask(api.POST('/api/v1/processes/{name}/drain', { params: { path: { name: id } } })), {
    title: 'Drain the process',
    text: 'Let it take up no more work? Runs that follow a log end with their next commit, others in their own time; other processes go on with the feeds.',
    yes: 'Drain',
  })
const resume = (id: string) =>
  act(`resume ${id}`, () => ask(api.POST('/api/v1/processes/{name}/resume', { params: { path: { name: id } } })))

const changing = ref('')
const length = ref('')
async function keep() {
  const { data } = await act(`keep ${changing.value}`, () =>
    ask(
      api.PUT('/api/v1/retention/{name}', {
        params: { path: { name: changing.value } },
        body: { keep: length.value },
      }),
    ),
  )
  if (data) changing.value = ''
}
const alone = computed(() => processes.value?.every((p) => p.state !== 'working') && processes.value.length > 0)
const list = (names: string[], n = 4) =>
  names.length <= n ? names.join(', ') : `${names.slice(0, n).join(', ')} and ${names.length - n} more`
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>Service</h1>
        <div class="quiet">the processes that share the work, and what they keep</div>
      </div>
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox v-if="!changing" :trouble="refused" />
    <TroubleBox
      v-if="alone"
      warn
      :trouble="{ what: 'No process takes up work: no feed runs.', remedy: 'Resume one, or start another.' }" />
    <section v-if="processes" class="sheet" aria-label="Processes">
      <header>
        <h2>Processes</h2>
        <span class="quiet"
          >{{ plural(processes.length, 'process').replace('processs', 'processes') }}; when one is gone, others go on
          with its feeds</span
        >
      </header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Process</th>
              <th scope="col">State</th>
              <th scope="col">Host</th>
              <th class="n" scope="col">Number there</th>
              <th scope="col">Address</th>
              <th scope="col">Since</th>
              <th scope="col">At work on</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in processes" :key="p.id">
              <td class="mono">{{ p.id }}</td>
              <td><State :state="p.state" /></td>
              <td>{{ p.host }}</td>
              <td class="n">{{ p.pid }}</td>
              <td class="mono nowrap">{{ p.address }}</td>
              <td class="nowrap"><When :time="p.started_at" :now="now" /></td>
              <td class="at-work">{{ p.feeds.length ? list(p.feeds) : 'nothing' }}</td>
              <td class="n">
                <template v-if="administers">
                  <ElButton
                    v-if="p.state === 'working'"
                    size="small"
                    text
                    :loading="busy === `drain ${p.id}`"
                    @click="drain(p.id)"
                    >Drain…</ElButton
                  >
                  <ElButton v-else size="small" :loading="busy === `resume ${p.id}`" @click="resume(p.id)"
                    >Resume</ElButton
                  >
                </template>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="places.length" class="sheet" aria-label="Warehouse files">
      <header>
        <h2>Warehouse files</h2>
        <span class="quiet">each is on one host, and one process at a time works on its feeds</span>
      </header>
      <table class="rows">
        <thead>
          <tr>
            <th scope="col">Warehouse</th>
            <th scope="col">Host</th>
            <th scope="col">Process</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in places" :key="p.warehouse">
            <td>{{ p.warehouse }}</td>
            <td>{{ p.host }}</td>
            <td>
              <span v-if="p.process" class="mono">{{ p.process }}</span
              ><span v-else class="bad">none: its feeds wait for one on this host</span>
            </td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="kept.length" class="sheet" aria-label="What is kept">
      <header>
        <h2>What is kept</h2>
        <span class="quiet"
          >{{ bytes(total) }} in the service's own database; what is older is removed within minutes</span
        >
      </header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">What</th>
              <th class="n" scope="col">Rows, about</th>
              <th class="n" scope="col">Size</th>
              <th scope="col">Kept for</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="k in kept" :key="k.what">
              <td>{{ k.says }}</td>
              <td class="n">{{ k.bytes ? count(k.rows) : '–' }}</td>
              <td class="n nowrap">{{ k.bytes ? bytes(k.bytes) : '–' }}</td>
              <td class="nowrap">
                <form v-if="changing === k.what" class="length" @submit.prevent="keep">
                  <ElInput
                    v-model="length"
                    :aria-label="`How long ${k.what} are kept`"
                    placeholder="30d or forever" />
                  <ElButton native-type="submit" type="primary" size="small" :loading="busy === `keep ${k.what}`"
                    >Keep</ElButton
                  >
                  <ElButton size="small" text @click="changing = ''">Cancel</ElButton>
                </form>
                <template v-else
                  >{{ k.keep
                  }}<span v-if="k.keep !== k.default" class="quiet">, usually {{ k.default }}</span></template
                >
                <div v-if="changing === k.what && refused" class="bad">{{ refused.what }} {{ refused.remedy }}</div>
              </td>
              <td class="n">
                <ElButton
                  v-if="administers && changing !== k.what"
                  size="small"
                  text
                  @click="((changing = k.what), (length = k.keep), (refused = undefined))"
                  >Change…</ElButton
                >
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
  </div>
</template>

<style scoped>
.at-work {
  white-space: normal;
  min-width: 14em;
}
.length {
  display: flex;
  gap: 6px;
  align-items: center;
}
.length :deep(.el-input) {
  width: 130px;
}
.bad {
  color: var(--bad);
  white-space: normal;
}
</style>
