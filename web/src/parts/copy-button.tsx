// Copies a text.

import { Copy } from 'lucide-react';
import type { ReactNode } from 'react';
import { toast } from 'sonner';
import { Button } from './ui';

export function CopyButton({ text, children = 'Copy', className }: { text: string; children?: ReactNode; className?: string }) {
  const copy = () =>
    void navigator.clipboard.writeText(text).then(
      () => toast.success('Copied.'),
      () => toast.error('The browser does not allow copying; select the text and copy it.'),
    );
  return (
    <Button onClick={copy} className={className}>
      <Copy className="size-4" /> {children}
    </Button>
  );
}
