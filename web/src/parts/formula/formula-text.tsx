// A formula to read: tags as chips, the rest as it is written.

import clsx from 'clsx';
import { pathEnd } from '../text';
import { pieces } from './text';

/** In one line it is cut off where the room ends. */
export function FormulaText({ text, line = false }: { text: string; line?: boolean }) {
  return (
    <code className={clsx('font-mono text-sm', line ? 'block truncate' : 'break-words whitespace-pre-wrap')}>
      {pieces(text).map((piece) =>
        typeof piece === 'string' ? (
          piece
        ) : (
          <span key={piece.from} title={piece.path.replaceAll('/', ' / ')} className="formula-chip">
            {pathEnd(piece.path)}
          </span>
        ),
      )}
    </code>
  );
}
