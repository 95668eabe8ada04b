// A formula to read: tags as chips, the rest as it is written.

import { pathEnd } from '../text';
import { pieces } from './text';

export function FormulaText({ text }: { text: string }) {
  return (
    <code className="font-mono text-sm break-words whitespace-pre-wrap">
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
