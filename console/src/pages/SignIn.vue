<script setup lang="ts">
import { ElButton, ElInput } from 'element-plus'
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, ask, trouble, type Schemas, type Trouble } from '../api'
import TroubleBox from '../parts/TroubleBox.vue'
import { useSession } from '../session'

const session = useSession()
const router = useRouter()
const route = useRoute()
const token = ref('')
const user = ref('')
const password = ref('')
const refused = String(route.query.refused ?? '')
const wrong = ref<Trouble | undefined>(refused ? { what: refused } : undefined)
const ways = ref<Schemas['Ways']>()
const byName = ref(false)
void ask(api.GET('/api/v1/sign-in-ways')).then(({ data }) => {
  ways.value = data
  byName.value = data?.passwords ?? false
})
const to = () => String(route.query.to ?? '/')
const busy = ref(false)

async function enter() {
  busy.value = true
  wrong.value = undefined
  try {
    const error = await session.signIn(
      byName.value ? { user: user.value.trim(), password: password.value } : { token: token.value.trim() },
    )
    if (error) wrong.value = trouble(error)
    else await router.push(to())
  } catch {
    wrong.value = trouble(undefined)
  }
  busy.value = false
}
</script>

<template>
  <form class="door" @submit.prevent="enter">
    <h1><img src="/mark.svg" alt="" width="30" height="30" /> Noemata</h1>
    <p class="quiet">Tables of your databases, kept in your warehouse: exactly, and with proof.</p>
    <a v-if="ways?.provider" class="elsewhere" :href="`/sign-in/away?to=${encodeURIComponent(to())}`"
      >Sign in with {{ ways.provider }}</a
    >
    <template v-if="byName">
      <label for="user">Name</label>
      <ElInput id="user" v-model="user" autocomplete="username" autofocus />
      <label for="password">Password</label>
      <ElInput id="password" v-model="password" type="password" autocomplete="current-password" />
    </template>
    <template v-else>
      <label for="token">Token</label>
      <ElInput
        id="token"
        v-model="token"
        type="password"
        autocomplete="current-password"
        autofocus
        placeholder="noe_…" />
    </template>
    <TroubleBox :trouble="wrong" />
    <ElButton native-type="submit" type="primary" :loading="busy" :disabled="byName ? !user || !password : !token"
      >Sign in</ElButton
    >
    <p v-if="ways?.passwords" class="small">
      <button type="button" class="link" @click="byName = !byName">
        {{ byName ? 'Sign in with a token instead' : 'Sign in by name instead' }}
      </button>
    </p>
    <p v-if="!byName" class="quiet small">
      The service printed the first token when it started for the first time.
      <code>noemata tokens add NAME</code> makes more.
    </p>
  </form>
</template>

<style scoped>
.door {
  max-width: 380px;
  margin: 14vh auto 0;
  padding: 26px 28px;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-radius: 4px;
  display: flex;
  flex-direction: column;
  gap: 12px;
}
.door h1 {
  display: flex;
  gap: 10px;
  align-items: center;
}
.door p {
  margin: 0;
}
label {
  font-weight: 600;
  margin-bottom: -8px;
}
.small {
  font-size: 12px;
}
.elsewhere {
  text-align: center;
  border: 1px solid var(--act);
  border-radius: 3px;
  padding: 7px;
  color: var(--act);
}
</style>
