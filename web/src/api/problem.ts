/** One fault in a document: where, what, and how to mend it. */
export interface Fault {
  path: string
  message: string
  mend: string
}

/** Problem details (RFC 9457). */
export interface Problem {
  status: number
  title: string
  detail: string
  problems: Fault[]
  /** What somebody else saved meanwhile, its revision, and what both were made from. */
  theirs?: Record<string, unknown> | string
  base?: Record<string, unknown> | string | null
  revision?: number
}

export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail)
  }
}

export async function readProblem(response: Response): Promise<Problem> {
  const fallback: Problem = {
    status: response.status,
    title: 'Something went wrong',
    detail: `The server answered with status ${response.status}.`,
    problems: [],
  }
  try {
    return { ...fallback, ...((await response.json()) as Partial<Problem>) }
  } catch {
    return fallback
  }
}

/** Any error as a problem, so that one component can show them all. */
export function asProblem(error: unknown): Problem {
  if (error instanceof ProblemError) return error.problem
  return {
    status: 0,
    title: 'The server cannot be reached',
    detail: 'Stone Kettle does not answer. Is it still running? It is asked again by itself.',
    problems: [],
  }
}
