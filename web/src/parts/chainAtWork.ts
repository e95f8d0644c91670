// The chain of the address. An address without one leads to that of the asset
// at work, or to the newest.
import { useEffect } from 'react'
import { useNavigate, useParams } from 'react-router'
import { useChains } from '../api/chains'
import { ApiError } from '../api/http'
import type { Stage } from '../pages'
import { useProjectId } from './project'
import { useWork } from './work'

export function useChainAtWork(stage: Stage['id']) {
  const project = useProjectId()
  const id = Number(useParams().chain ?? 0)
  const work = useWork()
  const { data: chains, error, isFetching } = useChains(project)
  const go = useNavigate()
  const chain = chains?.find((c) => c.id === id)
  const to = chains?.find((c) => c.id === work.chain) ?? chains?.[chains.length - 1]
  useEffect(() => {
    if (!id && to) void go(`/p/${project}/${stage}/${to.id}`, { replace: true })
  }, [id, to, go, project, stage])
  // An address with a chain that is not there says so, and shows no other.
  const lost = id > 0 && chains && !chain && !isFetching
  return {
    project,
    chain,
    chains,
    error: lost ? new ApiError(`There is no chain ${id} in this project. Choose an asset above.`) : error,
  }
}
