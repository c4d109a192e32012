import { useQuery } from '@tanstack/react-query'
import { demoMail } from '../../api/queries'
import { instantName } from '../../domain/months'
import { Empty, Trouble, Wait } from '../../components/States'
import { LogTabs } from './LogTabs'

/** What the demo would have sent: its mail goes to a stand-in on this machine. */
export default function MailScreen() {
  const found = useQuery(demoMail)
  if (found.isError) return <Trouble page="Demo mail" error={found.error} />
  if (!found.data) return <Wait what="the mail" />
  return (
    <>
      <div className="bar">
        <h1>Demo mail</h1>
        <LogTabs at="mail" />
        <span className="quiet small">Mail stays on this machine.</span>
      </div>
      <div className="scroll" role="region" aria-label="Mails" tabIndex={0}>
        {found.data.length === 0 && <Empty title="No mail sent yet">Notices go out within half a minute.</Empty>}
        {found.data.map((each, at) => (
          <details className="mail" key={`${each.at} ${each.to_address} ${at}`}>
            <summary>
              <b>{each.subject}</b>{' '}
              <span className="quiet small">
                to {each.to_address} · {instantName(each.at)}
              </span>
            </summary>
            <pre>{each.body}</pre>
          </details>
        ))}
      </div>
    </>
  )
}
