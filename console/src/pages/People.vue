<script setup lang="ts">
import { ElButton, ElDialog, ElForm, ElFormItem, ElInput, ElOption, ElSelect } from 'element-plus'
import { computed, reactive, ref } from 'vue'
import { useActs } from '../act'
import { api, ask, type Schemas, type Trouble } from '../api'
import { useLive } from '../live'
import State from '../parts/State.vue'
import TroubleBox from '../parts/TroubleBox.vue'
import When from '../parts/When.vue'
import { useNow } from '../words'

// Who may sign in and do what, who is signed in, and what they have changed.
type Change = Schemas['ChangeMade']
const tokens = ref<Schemas['Token'][]>()
const users = ref<Schemas['User'][]>([])
const sessions = ref<Schemas['Session'][]>([])
const changes = ref<Change[]>([])
const wrong = ref<Trouble>()
const only = ref('')
const open = ref<number>()
const now = useNow()

const refresh = useLive(
  async () => {
    const [u, t, s, c] = await Promise.all([
      ask(api.GET('/api/v1/users')),
      ask(api.GET('/api/v1/tokens')),
      ask(api.GET('/api/v1/sessions')),
      ask(api.GET('/api/v1/changes', { params: { query: { limit: 200 } } })),
    ])
    if (u.data) users.value = u.data
    if (t.data) tokens.value = t.data
    if (s.data) sessions.value = s.data
    if (c.data) changes.value = c.data
    wrong.value = t.trouble ?? s.trouble ?? c.trouble
  },
  (event) => event.kind === 'feed',
)
const { busy, refused, act } = useActs(refresh)

const asking = ref(false)
const made = ref('')
const blank = { name: '', role: 'operate' as 'look' | 'operate' | 'administer', label: '', asks: '', days: '' }
const form = reactive({ ...blank })
const roles = [
  { role: 'look', says: 'sees feeds, runs, proofs and what is wrong' },
  { role: 'operate', says: 'runs, pauses and changes feeds; proves and repairs' },
  { role: 'administer', says: 'connections, keys, people, statements at databases' },
]

function begin() {
  Object.assign(form, blank)
  made.value = ''
  refused.value = undefined
  asking.value = true
}

async function make() {
  const days = Number(form.days)
  const expires_at = days > 0 ? new Date(Date.now() + days * 86_400_000).toISOString() : undefined
  const body = { name: form.name, role: form.role, label: form.label || undefined, asks: asksFrom(form), expires_at }
  const { data } = await act('make', () => ask(api.POST('/api/v1/tokens', { body })))
  if (data?.secret) made.value = data.secret
}

const remove = (t: Schemas['Token']) =>
  act(`remove ${t.id}`, () => ask(api.DELETE('/api/v1/tokens/{id}', { params: { path: { id: t.id } } })), {
    title: 'Remove the token',
    text: `Remove the token of ${t.name}? Its sign-ins end with it.`,
    yes: 'Remove',
  })
/** What may be asked, as a form has it: names with commas between. Whoever administers may ask all. */
const asksFrom = (f: { role: string; asks: string }) =>
  f.role === 'administer'
    ? undefined
    : f.asks
        .split(',')
        .map((a) => a.trim())
        .filter(Boolean)
const asksOf = (x: { role: string; asks?: string[] | null }) =>
  x.role === 'administer' ? 'all' : x.asks?.join(', ') || '–'
const person = ref({
  name: '',
  role: 'operate' as 'look' | 'operate' | 'administer',
  label: '',
  asks: '',
  password: '',
})
const naming = ref<'add' | 'change' | ''>('')
function name(u?: Schemas['User']) {
  person.value = {
    name: u?.name ?? '',
    role: u?.role ?? 'operate',
    label: u?.label ?? '',
    asks: u?.asks?.join(', ') ?? '',
    password: '',
  }
  refused.value = undefined
  naming.value = u ? 'change' : 'add'
}
async function keepPerson() {
  const body = {
    ...person.value,
    label: person.value.role === 'administer' ? undefined : person.value.label || undefined,
    asks: asksFrom(person.value),
    password: person.value.password || undefined,
  }
  const { data } = await act('person', () =>
    naming.value === 'add'
      ? ask(api.POST('/api/v1/users', { body }))
      : ask(api.PUT('/api/v1/users/{name}', { params: { path: { name: body.name } }, body })),
  )
  if (data) naming.value = ''
}
const removePerson = (u: Schemas['User']) =>
  act(`remove ${u.name}`, () => ask(api.DELETE('/api/v1/users/{name}', { params: { path: { name: u.name } } })), {
    title: 'Remove the person',
    text: `Remove ${u.name}? Sign-ins end with it.`,
    yes: 'Remove',
  })
const end = (id: number) =>
  act(`end ${id}`, () => ask(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })))
const shown = computed(() =>
  changes.value.filter((c) =>
    `${c.by}\n${c.operation}\n${c.about}\n${c.address}`.toLowerCase().includes(only.value.trim().toLowerCase()),
  ),
)
const outcome = (c: Change) => (c.status < 300 ? 'done' : c.status === 403 ? 'not allowed' : `refused (${c.status})`)
const kept = (c: Change) =>
  Object.entries({ asked: c.asked, before: c.before, after: c.after }).filter(([, v]) => v != null)
const text = (v: unknown) => JSON.stringify(v, null, 1)
</script>

<template>
  <div class="page">
    <div class="head">
      <div>
        <h1>People</h1>
        <div class="quiet">who may do what, who is signed in, and what they have changed</div>
      </div>
      <span class="grow"></span>
      <ElButton @click="name()">Add a person…</ElButton>
      <ElButton type="primary" @click="begin">Make a token…</ElButton>
    </div>
    <TroubleBox :trouble="wrong" />
    <TroubleBox v-if="!asking && !naming" :trouble="refused" />
    <section v-if="users.length" class="sheet" aria-label="People">
      <header>
        <h2>People</h2>
        <span class="quiet">who sign in to the console by name</span>
      </header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Role</th>
              <th scope="col">Feeds</th>
              <th scope="col">Asks</th>
              <th scope="col">Signs in</th>
              <th scope="col">Signed in last</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="u in users" :key="u.name">
              <td>{{ u.name }}</td>
              <td>{{ u.role }}</td>
              <td>{{ u.label ? `with ${u.label}` : 'all' }}</td>
              <td>{{ asksOf(u) }}</td>
              <td>{{ u.elsewhere ? 'at the provider, which says the role' : 'by password' }}</td>
              <td class="nowrap"><When :time="u.last_used_at" :now="now" /></td>
              <td class="n nowrap">
                <ElButton v-if="!u.elsewhere" size="small" text @click="name(u)">Change…</ElButton
                ><ElButton size="small" text @click="removePerson(u)">Remove…</ElButton>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="tokens" class="sheet" aria-label="Tokens">
      <header>
        <h2>Tokens</h2>
        <span class="quiet">what people and programs sign in with</span>
      </header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Name</th>
              <th scope="col">Role</th>
              <th scope="col">Feeds</th>
              <th scope="col">Asks</th>
              <th scope="col">Made</th>
              <th scope="col">Last used</th>
              <th scope="col">Expires</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="t in tokens" :key="t.id">
              <td>{{ t.name }}</td>
              <td>{{ t.role }}</td>
              <td>{{ t.label ? `with ${t.label}` : 'all' }}</td>
              <td>{{ asksOf(t) }}</td>
              <td class="nowrap"><When :time="t.created_at" :now="now" /></td>
              <td class="nowrap"><When :time="t.last_used_at" :now="now" /></td>
              <td class="nowrap">
                <When v-if="t.expires_at" :time="t.expires_at" :now="now" /><span v-else class="quiet">never</span>
              </td>
              <td class="n"><ElButton size="small" text @click="remove(t)">Remove…</ElButton></td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="sessions.length" class="sheet" aria-label="Sign-ins">
      <header><h2>Sign-ins of the console</h2></header>
      <div class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">Who</th>
              <th scope="col">From</th>
              <th scope="col">Signed in</th>
              <th scope="col">Ends</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="s in sessions" :key="s.id">
              <td>{{ s.token }}</td>
              <td class="mono">{{ s.address || '–' }}</td>
              <td class="nowrap"><When :time="s.created_at" :now="now" /></td>
              <td class="nowrap"><When :time="s.expires_at" :now="now" /></td>
              <td class="n">
                <ElButton size="small" text :loading="busy === `end ${s.id}`" @click="end(s.id)">End</ElButton>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </section>
    <section v-if="tokens" class="sheet" aria-label="Changes">
      <header>
        <h2>Changes</h2>
        <span class="quiet">the newest first; what was not allowed, too</span>
        <span class="grow"></span>
        <ElInput
          v-model="only"
          clearable
          class="only"
          placeholder="Name, feed, call, address…"
          aria-label="Show only changes with" />
      </header>
      <p v-if="!shown.length" class="pad quiet">Nothing is on record.</p>
      <div v-else class="scroll">
        <table class="rows">
          <thead>
            <tr>
              <th scope="col">When</th>
              <th scope="col">By</th>
              <th scope="col">From</th>
              <th scope="col">What</th>
              <th scope="col">About</th>
              <th scope="col">Outcome</th>
              <th scope="col"></th>
            </tr>
          </thead>
          <tbody>
            <template v-for="c in shown" :key="c.id">
              <tr>
                <td class="nowrap"><When :time="c.at" :now="now" /></td>
                <td>{{ c.by }}</td>
                <td class="mono">{{ c.address }}</td>
                <td>{{ c.operation.replaceAll('-', ' ') }}</td>
                <td>{{ c.about || '–' }}</td>
                <td><State v-if="c.status >= 300" state="failed" /> {{ outcome(c) }}</td>
                <td class="n">
                  <ElButton
                    v-if="c.asked || c.before || c.after"
                    size="small"
                    text
                    :aria-expanded="open === c.id"
                    @click="open = open === c.id ? undefined : c.id"
                    >{{ open === c.id ? 'Less' : 'More' }}</ElButton
                  >
                </td>
              </tr>
              <tr v-if="open === c.id">
                <td colspan="7">
                  <div class="sides">
                    <div v-for="[side, v] in kept(c)" :key="side">
                      <div class="quiet">{{ side }}</div>
                      <pre class="mono small" tabindex="0">{{ text(v) }}</pre>
                    </div>
                  </div>
                </td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
    </section>
    <ElDialog
      :model-value="naming !== ''"
      :title="naming === 'change' ? `Change ${person.name}` : 'Add a person'"
      width="560px"
      align-center
      append-to-body
      @close="naming = ''">
      <ElForm label-width="110px" @submit.prevent="keepPerson">
        <ElFormItem v-if="naming === 'add'" label="Name"
          ><ElInput v-model="person.name" placeholder="by which the person signs in" autocomplete="off"
        /></ElFormItem>
        <ElFormItem label="Role">
          <ElSelect v-model="person.role" aria-label="The person's role"
            ><ElOption v-for="r in roles" :key="r.role" :value="r.role" :label="`${r.role}: ${r.says}`"
          /></ElSelect>
        </ElFormItem>
        <ElFormItem v-if="person.role !== 'administer'" label="For feeds with"
          ><ElInput v-model="person.label" placeholder="a label, as region=north; all when empty"
        /></ElFormItem>
        <ElFormItem v-if="person.role !== 'administer'" label="May ask"
          ><ElInput
            v-model="person.asks"
            placeholder="warehouses, as lake, or schemas, as lake.kept; none when empty"
        /></ElFormItem>
        <ElFormItem label="Password"
          ><ElInput
            v-model="person.password"
            type="password"
            autocomplete="new-password"
            :placeholder="naming === 'change' ? 'as it is; with another, sign-ins end' : '12 characters or more'"
        /></ElFormItem>
        <TroubleBox :trouble="refused" />
      </ElForm>
      <template #footer
        ><ElButton type="primary" :loading="busy === 'person'" @click="keepPerson">{{
          naming === 'change' ? 'Change' : 'Add'
        }}</ElButton></template
      >
    </ElDialog>
    <ElDialog v-model="asking" title="Make a token" width="560px" align-center append-to-body @closed="made = ''">
      <template v-if="made">
        <p>It is shown this once. Whoever has it signs in as {{ form.name }}.</p>
        <p class="mono made">{{ made }}</p>
      </template>
      <ElForm v-else label-width="110px" @submit.prevent="make">
        <ElFormItem label="Name"><ElInput v-model="form.name" placeholder="whose it is, or what for" /></ElFormItem>
        <ElFormItem label="Role">
          <ElSelect v-model="form.role" aria-label="Role"
            ><ElOption v-for="r in roles" :key="r.role" :value="r.role" :label="`${r.role}: ${r.says}`"
          /></ElSelect>
        </ElFormItem>
        <ElFormItem v-if="form.role !== 'administer'" label="For feeds with"
          ><ElInput v-model="form.label" placeholder="a label, as region=north; all when empty"
        /></ElFormItem>
        <ElFormItem v-if="form.role !== 'administer'" label="May ask"
          ><ElInput v-model="form.asks" placeholder="warehouses, as lake, or schemas, as lake.kept; none when empty"
        /></ElFormItem>
        <ElFormItem label="Expires after"
          ><ElInput v-model="form.days" placeholder="days; never when empty"
        /></ElFormItem>
        <TroubleBox :trouble="refused" />
      </ElForm>
      <template #footer>
        <ElButton v-if="made" type="primary" @click="asking = false">I have kept it</ElButton>
        <ElButton v-else type="primary" :loading="busy === 'make'" @click="make">Make it</ElButton>
      </template>
    </ElDialog>
  </div>
</template>

<style scoped>
.scroll {
  overflow: auto;
  max-height: 70vh;
}
.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(280px, 1fr));
  gap: 12px;
}
pre {
  margin: 0;
  max-height: 280px;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.made {
  overflow-wrap: anywhere;
  user-select: all;
  padding: 8px 10px;
  border: 1px solid var(--line);
  border-radius: 3px;
}
</style>
