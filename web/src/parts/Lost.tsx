import { isRouteErrorResponse, Link, useLocation, useRouteError } from 'react-router'
import { Empty } from './Empty'
import { Text } from './Text'
import { TextButton } from './TextButton'

/** Stands where an address leads nowhere, or where a page has failed. */
export function Lost() {
  const error = useRouteError(),
    { pathname } = useLocation()
  const failed = error != null && !(isRouteErrorResponse(error) && error.status === 404)
  return (
    <div role="alert">
      <Empty>
        <b>{failed ? 'This page has failed' : 'Nothing has this address'}</b>
        {failed ? (
          <>
            {error instanceof Error ? error.message : 'It threw something that is no error'}. What was saved
            is safe; <TextButton onClick={() => window.location.reload()}>load the page again</TextButton> or
            go to{' '}
          </>
        ) : (
          <>
            <Text mono>{pathname}</Text> is no page of Excavate. Go to{' '}
          </>
        )}
        <Link to="/projects">all projects</Link>.
      </Empty>
    </div>
  )
}
