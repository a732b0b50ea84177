<script setup lang="ts">
import {
  ElButton,
  ElDialog,
  ElForm,
  ElFormItem,
  ElInput,
  ElInputNumber,
  ElOption,
  ElRadioButton,
  ElRadioGroup,
  ElSelect,
} from 'element-plus'
import { computed, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas, type Trouble } from '../api'
import { useLive } from '../live'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { useSession } from '../session'
import { useNow } from '../words'

// What needs a person, what did, and who is told.
type Channel = Schemas['Channel']
const session = useSession()
const alerts = ref<Schemas['Alert'][]>()
const channels = ref<Channel[]>([])
const wrong = ref<Trouble>()
const now = useNow()
const mayChange = computed(() => session.role === 'administer')

const refresh = useLive(
  async () => {
    const [a, c] = await Promise.all([
      ask(api.GET('/api/v1/alerts', { params: { query: { all: true, limit: 100 } } })),
      mayChange.value
        ? ask(api.GET('/api/v1/channels'))
        : Promise.resolve({ data: [] as Channel[], trouble: undefined }),
    ])
    if (a.data) alerts.value = a.data
    if (c.data) channels.value = c.data
    wrong.value = a.trouble ?? c.trouble
  },
  (event) => event.kind === 'feed',
)
const { busy, refused, act } = useActs(refresh)
const open = computed(() => alerts.value?.filter((a) => !a.ended_at) ?? [])
const over = computed(() => alerts.value?.filter((a) => a.ended_at) ?? [])

const kinds = ['held', 'failing', 'unequal', 'late', 'lag', 'log', 'drift', 'derived', 'disk']
const blank = () => ({
  name: '',
  way: 'webhook' as 'webhook' | 'email',
  url: '',
  host: '',
  port: undefined as number | undefined,
  tls: 'starttls' as 'starttls' | 'always' | 'off',
  user: '',
  from: '',
  to: '',
  kinds: [] as string[],
  label: '',
  lag: '',
  quiet: '',
  zone: '',
  secret: '',
})
const form = ref(blank())
const asking = ref(false)
const changing = ref(false)

function begin(c?: Channel) {
  form.value = blank()
  changing.value = c !== undefined
  if (c) Object.assign(form.value, JSON.parse(JSON.stringify(c)), { to: c.to?.join(', ') ?? '' })
  refused.value = undefined
  asking.value = true
}

async function save() {
  const given = (text: string) => text.trim() || undefined
  const f = form.value
  const shared = {
    name: f.name,
    way: f.way,
    kinds: f.kinds.length ? f.kinds : undefined,
    label: given(f.label),
    lag: given(f.lag),
    quiet: given(f.quiet),
    zone: given(f.zone),
    secret: given(f.secret),
  }
  const to = f.to
    .split(',')
    .map((x) => x.trim())
    .filter(Boolean)
  const body: Channel =
    f.way === 'webhook'
      ? { ...shared, url: f.url }
      : { ...shared, host: f.host, port: f.port, tls: f.tls, user: given(f.user), from: f.from, to }
  const { data } = await act('save', () =>
    changing.value
      ? ask(api.PUT('/api/v1/channels/{name}', { params: { path: { name: f.name } }, body }))
      : ask(api.POST('/api/v1/channels', { body })),
  )
  if (data) asking.value = false
}

const test = (c: Channel) =>
  act(`test ${c.name}`, () => ask(api.POST('/api/v1/channels/{name}/test', { params: { path: { name: c.name } } })))
const remove = (c: Channel) =>
  act(`remove ${c.name}`, () => ask(api.DELETE('/api/v1/channels/{name}', { params: { path: { name: c.name } } })), {
    title: 'Remove the channel',
    text: `Remove the channel ${c.name}? Nobody is told by it any more.`,
    yes: 'Remove',
  })
const wrongAt = (...fields: string[]) =>
  refused.value?.field && fields.includes(refused.value.field)
    ? `${refused.value.what} ${refused.value.remedy ?? ''}`
    : ''
const beside = computed(() =>
  ['url', 'host', 'to', 'tls', 'lag', 'quiet', 'secret', 'kinds'].includes(refused.value?.field ?? ''),
)
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>
          {{
            alerts
              ? open.length
                ? `${open.length} ${open.length === 1 ? 'thing needs' : 'things need'} a person`
                : 'Nothing needs a person'
              : 'Alerts'
          }}
        </h1>
        <div class="quiet">each is told once, and when it is over</div>
      </div>
      <span class="grow"></span>
      <ElButton v-if="mayChange" type="primary" @click="begin()">Add a channel…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox v-if="!asking" :trouble="refused" />
    <TroubleBox
      v-for="a in open"
      :key="a.id"
      :warn="['lag', 'log', 'drift', 'unequal', 'derived'].includes(a.kind)"
      :trouble="{ what: a.what, remedy: a.remedy }">
      <RouterLink
        v-if="a.feed"
        :to="a.about ? { path: `/feeds/${a.feed}/table`, query: { name: a.about } } : `/feeds/${a.feed}`"
        ><strong>{{ a.feed }}{{ a.about ? ' / ' + a.about : '' }}</strong></RouterLink
      >
      <RouterLink v-else-if="a.kind === 'derived'" :to="{ path: '/derived', query: { table: a.about } }"
        ><strong>{{ a.about }}</strong></RouterLink
      >
      {{ a.kind }} since <When :time="a.began_at" :now="now" /><template v-if="a.told.length"
        >, told {{ a.told.join(', ') }}</template
      >
    </TroubleBox>
    <section v-if="mayChange" class="sheet" aria-label="Channels">
      <header>
        <h2>Channels</h2>
        <span class="quiet">who is told of what, and how</span>
      </header>
      <p v-if="!channels.length" class="pad quiet">
        Nobody is told. Add a webhook or an address of e-mail; this page shows alerts in any case.
      </p>
      <div v-else class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Way</th>
              <th scope="col">To</th>
              <th scope="col">Kinds</th>
              <th scope="col">Feeds</th>
              <th scope="col">Lag</th>
              <th scope="col">Quiet</th>
              <th scope="col">Last message</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="c in channels" :key="c.name">
              <td>{{ c.name }}</td>
              <td>{{ c.way }}</td>
              <td class="mono to">{{ c.url ?? c.to?.join(', ') }}</td>
              <td>{{ c.kinds?.join(', ') || 'all' }}</td>
              <td>{{ c.label ? `with ${c.label}` : 'all' }}</td>
              <td>{{ c.lag ?? '–' }}</td>
              <td class="nowrap">{{ c.quiet ? `${c.quiet} ${c.zone ?? 'UTC'}` : '–' }}</td>
              <td>
                <span v-if="c.problem" class="bad">{{ c.problem.what }}</span
                ><When v-else :time="c.told_at" :now="now" />
              </td>
              <td class="n nowrap">
                <ElButton size="small" :loading="busy === `test ${c.name}`" @click="test(c)">Test</ElButton>
                <ElButton size="small" @click="begin(c)">Change…</ElButton>
                <ElButton size="small" text @click="remove(c)">Remove…</ElButton>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="over.length" class="sheet" aria-label="Over">
      <header><h2>Over</h2></header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Kind</th>
              <th scope="col">Of</th>
              <th scope="col">What</th>
              <th scope="col">Began</th>
              <th scope="col">Ended</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="a in over" :key="a.id">
              <td>{{ a.kind }}</td>
              <td>{{ [a.feed, a.about].filter(Boolean).join(' / ') }}</td>
              <td>{{ a.what }}</td>
              <td class="nowrap"><When :time="a.began_at" :now="now" /></td>
              <td class="nowrap"><When :time="a.ended_at" :now="now" /></td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <ElDialog
      v-model="asking"
      :title="changing ? `Change the channel ${form.name}` : 'Add a channel'"
      width="600px"
      align-center
      append-to-body>
      <ElForm label-width="120px" @submit.prevent="save">
        <ElFormItem label="Name" :error="wrongAt('name')"
          ><ElInput v-model="form.name" :disabled="changing" placeholder="lower-case letters, digits, hyphens"
        /></ElFormItem>
        <ElFormItem label="Way"
          ><ElRadioGroup v-model="form.way" aria-label="Way"
            ><ElRadioButton value="webhook">Webhook</ElRadioButton
            ><ElRadioButton value="email">E-mail</ElRadioButton></ElRadioGroup
          ></ElFormItem
        >
        <ElFormItem v-if="form.way === 'webhook'" label="URL" :error="wrongAt('url')"
          ><ElInput v-model="form.url" class="mono" placeholder="https://alerts.example/noemata"
        /></ElFormItem>
        <template v-else>
          <ElFormItem label="Server and port" :error="wrongAt('host')"
            ><div class="pair">
              <ElInput v-model="form.host" aria-label="Server" /><ElInputNumber
                v-model="form.port"
                :min="1"
                :max="65535"
                :controls="false"
                placeholder="usual"
                aria-label="Port" /></div
          ></ElFormItem>
          <ElFormItem label="TLS" :error="wrongAt('tls')"
            ><ElSelect v-model="form.tls" aria-label="TLS"
              ><ElOption v-for="m in ['starttls', 'always', 'off']" :key="m" :value="m" :label="m" /></ElSelect
          ></ElFormItem>
          <ElFormItem label="User"
            ><ElInput v-model="form.user" autocomplete="off" placeholder="nobody, when empty"
          /></ElFormItem>
          <ElFormItem label="From"><ElInput v-model="form.from" placeholder="noemata@lending.example" /></ElFormItem>
          <ElFormItem label="To" :error="wrongAt('to')"
            ><ElInput v-model="form.to" placeholder="addresses, with commas between"
          /></ElFormItem>
        </template>
        <ElFormItem :label="form.way === 'webhook' ? 'Signed with' : 'Password'" :error="wrongAt('secret')"
          ><ElInput
            v-model="form.secret"
            type="password"
            autocomplete="new-password"
            :placeholder="changing ? 'as it is, while messages go where they went' : ''"
        /></ElFormItem>
        <ElFormItem label="Kinds" :error="wrongAt('kinds')"
          ><ElSelect v-model="form.kinds" multiple placeholder="all" aria-label="Kinds"
            ><ElOption v-for="k in kinds" :key="k" :value="k" :label="k" /></ElSelect
        ></ElFormItem>
        <ElFormItem label="Feeds with"
          ><ElInput v-model="form.label" placeholder="a label, as region=north; all when empty"
        /></ElFormItem>
        <ElFormItem label="Lag above" :error="wrongAt('lag')"
          ><ElInput v-model="form.lag" placeholder="15m, 1d; never told when empty"
        /></ElFormItem>
        <ElFormItem label="Quiet hours" :error="wrongAt('quiet')"
          ><div class="pair">
            <ElInput v-model="form.quiet" placeholder="22:00-06:30" aria-label="Quiet hours" /><ElInput
              v-model="form.zone"
              placeholder="UTC, or Europe/Vienna"
              aria-label="Zone" /></div
        ></ElFormItem>
        <TroubleBox v-if="!beside" :trouble="refused" />
      </ElForm>
      <template #footer
        ><ElButton type="primary" :loading="busy === 'save'" @click="save">{{
          changing ? 'Change' : 'Add'
        }}</ElButton></template
      >
    </ElDialog>
  </div>
</template>

<style scoped>
.scroll {
  overflow: auto;
}
.to {
  overflow-wrap: anywhere;
  min-width: 170px;
  max-width: 260px;
}
.bad {
  color: var(--bad);
}
.pair {
  display: flex;
  gap: 8px;
  width: 100%;
}
:deep(.el-form-item__error) {
  position: static;
  line-height: 1.35;
  padding-top: 4px;
}
</style>
