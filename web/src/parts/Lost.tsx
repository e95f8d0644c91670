import { isRouteErrorResponse, Link, useLocation, useRouteError } from 'react-router'

/** Stands where an address leads nowhere, or where a page has failed. */
export function Lost() {
  const error = useRouteError(),
    { pathname } = useLocation()
  const failed = error != null && !(isRouteErrorResponse(error) && error.status === 404)
  return (
    <div className="empty" role="alert">
      <b>{failed ? 'This page has failed' : 'Nothing has this address'}</b>
      {failed ? (
        <>
          {error instanceof Error ? error.message : String(error)}. What was saved is safe;{' '}
          <button className="link" onClick={() => window.location.reload()}>
            load the page again
          </button>{' '}
          or go to{' '}
        </>
      ) : (
        <>
          <span className="mono">{pathname}</span> is no page of Excavate. Go to{' '}
        </>
      )}
      <Link to="/">all projects</Link>.
    </div>
  )
}
