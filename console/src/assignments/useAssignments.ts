import { changing, key, match } from '@/api/changing'
import { api, type Assignment, told } from '@/api/client'
import { crud } from '@/api/crud'
import type { components } from '@/api/schema'

type NewAssignment = components['schemas']['NewAssignment']

export type AssignmentBody = components['schemas']['Assignment']

const assignments = crud<Assignment, AssignmentBody>('assignments')

/** The assignments of a ruleset, or those on a group. */
export const useAssignments = assignments.useSome

/** One of them alone. */
export const useAssignment = assignments.useOne

export const usePutAssignment = assignments.usePut
export const useRemoveAssignment = assignments.useRemove

const useChange = changing(['revision'])

/** Put a ruleset on groups. */
export const useAssign = () =>
  useChange((body: NewAssignment, query) =>
    told(api.POST('/api/v1/assignments', { params: { query }, body, headers: key() })),
  )

/** Have versions that came later stopped at once from now on. */
export const useAccept = () =>
  useChange(({ key, ...body }: { key: string } & components['schemas']['AcceptedVersions'], query) =>
    told(api.POST('/api/v1/assignments/{key}/accept', { params: { path: { key }, query }, body })),
  )

/** What an assignment is, without what lists add to it. */
export function assignmentBody(one: Assignment): AssignmentBody {
  const body: Partial<Assignment> = { ...one }
  delete body.sentence
  delete body.held_back
  delete body.devices
  delete body.version
  return body as AssignmentBody
}

/** Pause an assignment, or put it in force. */
export const useSetState = () =>
  useChange(({ assignment, state }: { assignment: Assignment; state: Assignment['state'] }, query) =>
    told(
      api.PUT('/api/v1/assignments/{key}', {
        params: { path: { key: assignment.key }, query },
        body: { ...assignmentBody(assignment), state },
        headers: match(assignment.version),
      }),
    ),
  )
