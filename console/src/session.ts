import { defineStore } from 'pinia'
import { ref } from 'vue'
import { api } from './api'

/** Who is signed in. */
export const useSession = defineStore('session', () => {
  const name = ref('')
  const role = ref('')
  const known = ref(false)

  async function look() {
    const { data } = await api.GET('/api/v1/session')
    name.value = data?.name ?? ''
    role.value = data?.role ?? ''
    known.value = true
  }

  async function signIn(by: { token: string } | { user: string; password: string }) {
    const { data, error } = await api.POST('/api/v1/session', { body: by })
    if (data) await look()
    return error
  }

  async function signOut() {
    await api.DELETE('/api/v1/session')
    name.value = ''
  }

  /** The service knows the session no more. */
  function forget() {
    name.value = ''
  }

  return { name, role, known, look, signIn, signOut, forget }
})
