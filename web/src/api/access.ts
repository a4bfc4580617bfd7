/** Queries and changes of people, and of who did what. */
import { keepPreviousData, useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'
import { api, body, type Schemas } from './client'

export type Role = Schemas['Role']
export type PersonLine = Schemas['PersonLine']
export type Deed = Schemas['DeedLine']
export type DeedFilter = {
  who?: string
  kind?: string
  object?: number
  text?: string
  since?: string
  until?: string
  before?: number
}

/** Why somebody who came back from the other service was not signed in. */
export const REFUSED: Record<string, string> = {
  away: 'The other service does not answer. Sign in with your password, or try again later.',
  failed: 'The other service did not say who you are in a way that could be checked. Try again.',
  cancelled: 'The other service was not allowed to tell who you are.',
  unknown:
    'Nobody here is known by that sign-in. Sign in with your password and connect it on your page, or ask an administrator for an invitation.',
  taken:
    'Somebody here has that name already. If it is you, sign in with your password and connect it on your page.',
  locked: 'You have been locked out. Ask an administrator.',
  others: 'That sign-in belongs to somebody else here already.',
}

export function useOutside() {
  return useQuery({ queryKey: ['openid'], queryFn: () => body(api.GET('/api/openid')) })
}

/** Lead the browser to the other service; what comes back is one's own. */
export function useConnect() {
  return useMutation({
    mutationFn: () => body(api.POST('/api/openid')),
    onSuccess: () => window.location.assign('/api/openid/begin'),
  })
}

export function useDisconnect() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.DELETE('/api/openid')),
    onSuccess: (told) => client.setQueryData(['openid'], told),
  })
}

export function useChangePassword() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: Schemas['NewPassword']) => body(api.POST('/api/password', { body: given })),
    onSuccess: (me) => client.setQueryData(['me'], me),
  })
}

export function usePeople() {
  return useQuery({ queryKey: ['people'], queryFn: () => body(api.GET('/api/people')) })
}

/** A change of one person, told as its line. */
function usePersonChange<T>(send: (person: number, given: T) => Promise<PersonLine>) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: ({ person, given }: { person: number; given: T }) => send(person, given),
    onSettled: () => client.invalidateQueries({ queryKey: ['people'] }),
  })
}

const of = (person: number) => ({ path: { person_id: person } })

export function useGiveRole() {
  return usePersonChange((person, role: Role) =>
    body(api.PUT('/api/people/{person_id}/role', { params: of(person), body: { role } })),
  )
}

export function useLock() {
  return usePersonChange((person, locked: boolean) =>
    locked
      ? body(api.POST('/api/people/{person_id}/lock', { params: of(person) }))
      : body(api.POST('/api/people/{person_id}/unlock', { params: of(person) })),
  )
}

export function useResetPassword() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (person: number) =>
      body(api.POST('/api/people/{person_id}/password', { params: of(person) })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['people'] }),
  })
}

export function useInvitations() {
  return useQuery({ queryKey: ['invitations'], queryFn: () => body(api.GET('/api/invitations')) })
}

export function useInvite() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: Schemas['NewInvitation']) =>
      body(api.POST('/api/invitations', { body: given })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['invitations'] }),
  })
}

export function useWithdraw() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (invitation: number) =>
      body(
        api.DELETE('/api/invitations/{invitation_id}', {
          params: { path: { invitation_id: invitation } },
        }),
      ),
    onSettled: () => client.invalidateQueries({ queryKey: ['invitations'] }),
  })
}

const link = (token: string) => ({ params: { path: { token } } })

/** What the link of an invitation is for. */
export function useWelcome(token: string) {
  return useQuery({
    queryKey: ['welcome', token],
    queryFn: () => body(api.GET('/api/welcome/{token}', link(token))),
  })
}

export function useAccept(token: string) {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: Schemas['SignIn']) =>
      body(api.POST('/api/welcome/{token}', { ...link(token), body: given })),
    onSuccess: (me) => client.setQueryData(['me'], me),
  })
}

export function useDeeds(filter: MaybeRefOrGetter<DeedFilter>) {
  return useQuery({
    queryKey: computed(() => ['deeds', toValue(filter)]),
    queryFn: () => body(api.GET('/api/deeds', { params: { query: toValue(filter) } })),
    placeholderData: keepPreviousData,
  })
}

export function useDeedChoices() {
  return useQuery({
    queryKey: ['deeds', 'choices'],
    queryFn: () => body(api.GET('/api/deed-choices')),
  })
}

export function useSessions() {
  return useQuery({ queryKey: ['sessions'], queryFn: () => body(api.GET('/api/sessions')) })
}

export function useEndOtherSessions() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: () => body(api.DELETE('/api/sessions')),
    onSuccess: (left) => client.setQueryData(['sessions'], left),
  })
}

export function useTokens() {
  return useQuery({ queryKey: ['tokens'], queryFn: () => body(api.GET('/api/tokens')) })
}

export function useMakeToken() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (given: { name: string; role: Role; days: number }) =>
      body(api.POST('/api/tokens', { body: given })),
    onSuccess: () => client.invalidateQueries({ queryKey: ['tokens'] }),
  })
}

export function useWithdrawToken() {
  const client = useQueryClient()
  return useMutation({
    mutationFn: (token: number) =>
      body(api.DELETE('/api/tokens/{token_id}', { params: { path: { token_id: token } } })),
    onSettled: () => client.invalidateQueries({ queryKey: ['tokens'] }),
  })
}
