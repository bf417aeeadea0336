// A policy in plain words, to paste into the change board's record.
import { Copy, Download } from 'lucide-react';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { useSummary } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Failed, Loading, Page } from '../../ui/parts';

export function SummaryScreen() {
  const { id = '' } = useParams();
  const open = useOpenChange();
  const summary = useSummary(id, open.change, !open.id || !!open.change);
  const [copied, setCopied] = useState(false);
  const s = summary.data;
  const download = (text: string, type: string, name: string) => {
    const url = URL.createObjectURL(new Blob([text], { type }));
    const a = Object.assign(document.createElement('a'), { href: url, download: name });
    a.click();
    URL.revokeObjectURL(url);
  };
  return (
    <Page
      title={s ? `Summary: ${s.title}` : 'Summary'}
      lead={
        open.change ? `With the open change ‘${open.change.title}’. The same state gives the same text.` : 'As it is live. The same state gives the same text.'
      }
      actions={
        s && (
          <>
            <button type="button" className="btn btn-sm" onClick={() => void navigator.clipboard.writeText(s.markdown).then(() => setCopied(true))}>
              <Copy size={14} aria-hidden /> {copied ? 'Copied' : 'Copy as Markdown'}
            </button>
            <button type="button" className="btn btn-sm" onClick={() => download(s.markdown, 'text/markdown', `${id}.md`)}>
              <Download size={14} aria-hidden /> Markdown
            </button>
            <button type="button" className="btn btn-sm" onClick={() => download(s.html, 'text/html', `${id}.html`)}>
              <Download size={14} aria-hidden /> HTML
            </button>
            <Link className="btn btn-sm" to={`/policies/${id}`}>
              To the policy
            </Link>
          </>
        )
      }
    >
      <Failed error={summary.error} />
      {summary.isPending && <Loading />}
      {s && (
        <article className="sheet flex max-w-5xl flex-col gap-3 px-6 py-5 text-[15px]">
          {s.blocks.map((b, i) => {
            switch (b.kind) {
              case 'heading':
                return (
                  <h2 key={i} className="mt-2 border-b border-base-300 pb-1 font-semibold first:mt-0">
                    {b.text}
                  </h2>
                );
              case 'list':
                return (
                  <ul key={i} className="flex list-disc flex-col gap-1 pl-5 text-sm">
                    {b.points?.map((p) => (
                      <li key={p}>{p}</li>
                    ))}
                  </ul>
                );
              case 'table':
                return (
                  <div key={i} className="overflow-x-auto">
                    <table className="table table-sm [&_td]:align-top">
                      <caption className="sr-only">{b.header?.join(', ')}</caption>
                      <thead>
                        <tr>
                          {b.header?.map((h) => (
                            <th key={h} scope="col">
                              {h}
                            </th>
                          ))}
                        </tr>
                      </thead>
                      <tbody>
                        {b.rows?.map((row) => (
                          <tr key={row[0]}>
                            {row.map((cell, j) => (
                              <td key={j} className="break-words">
                                {cell}
                              </td>
                            ))}
                          </tr>
                        ))}
                      </tbody>
                    </table>
                  </div>
                );
            }
            return <p key={i}>{b.text}</p>;
          })}
        </article>
      )}
    </Page>
  );
}
