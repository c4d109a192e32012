import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { FormDialog } from './FormDialog'
import { inWords } from './printing'

/** Which columns of a table go into its files, as this browser remembers it; all where none are named. */
export function useExportColumns(name: string): [string[], (columns: string[]) => void] {
  const slot = `fair-ladle-export ${name}`
  const read = () => localStorage.getItem(slot)?.split('\n').filter(Boolean) ?? []
  const [kept, setKept] = useState({ slot, columns: read() })
  const columns = kept.slot === slot ? kept.columns : read()
  const set = (chosen: string[]) => {
    if (chosen.length) localStorage.setItem(slot, chosen.join('\n'))
    else localStorage.removeItem(slot)
    setKept({ slot, columns: chosen })
  }
  return [columns, set]
}

/** Choose which columns go into files, the clipboard and on paper. */
export function ExportColumns({
  columns,
  chosen,
  choose,
  close,
}: {
  columns: string[]
  chosen: string[]
  choose: (columns: string[]) => void
  close: () => void
}) {
  const there = chosen.filter((each) => columns.includes(each))
  const [wanted, setWanted] = useState(new Set(there.length ? there : columns))
  const all = wanted.size === columns.length
  return (
    <FormDialog
      id="export-columns"
      title="Columns to export"
      submit="Save"
      busy={false}
      ready={wanted.size > 0}
      send={() => {
        choose(all ? [] : columns.filter((each) => wanted.has(each)))
        close()
      }}
      close={close}
    >
      <p className="quiet small mb-2">For files, the clipboard and printing of this list, in this browser.</p>
      <div className="exportcolumns">
        {columns.map((each) => (
          <Form.Check
            key={each}
            id={`export-column-${each}`}
            label={inWords(each)}
            checked={wanted.has(each)}
            onChange={(event) => {
              const next = new Set(wanted)
              if (event.target.checked) next.add(each)
              else next.delete(each)
              setWanted(next)
            }}
          />
        ))}
      </div>
      <button
        type="button"
        className="btn btn-link btn-sm p-0 mt-2"
        onClick={() => setWanted(new Set(all ? [] : columns))}
      >
        {all ? 'None' : 'All'}
      </button>
    </FormDialog>
  )
}
