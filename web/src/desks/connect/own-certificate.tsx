// The certificate by which servers know Havrel: what it says, as a file for the server, renewed by hand.

import { useQuery } from '@tanstack/react-query';
import { Download } from 'lucide-react';
import { useState } from 'react';
import { http, take } from '../../api/client';
import { queries } from '../../api/queries';
import { complain } from '../../parts/form';
import { Button, Confirm, Trouble } from '../../parts/ui';

const KEY = ['identity'];

export function OwnCertificate({ label }: { label: string }) {
  const held = useQuery({ queryKey: KEY, queryFn: () => take(http.GET('/api/identity')), staleTime: 0 });
  const [renewing, setRenewing] = useState(false);
  const renew = async () => {
    setRenewing(false);
    const made = await take(http.POST('/api/identity')).catch(complain);
    if (made) queries.setQueryData(KEY, made);
  };
  const own = held.data;
  return (
    <section aria-label={label}>
      <p className="mb-0.5 text-sm text-soft">{label}</p>
      <Trouble error={held.error} />
      <p className="figures min-h-9 text-sm break-all whitespace-normal">{own?.fingerprint ?? 'It is being made…'}</p>
      <div className="flex flex-wrap items-center gap-2">
        <span className="text-soft">
          {own && `${own.subject}, ${own.uri}, valid until ${own.until.slice(0, 10)}; made for ${own.hosts.join(', ')}.`}
        </span>
        <a
          className="ml-auto inline-flex h-7 items-center gap-1 rounded border border-line px-2 hover:border-teal"
          href="/api/identity/certificate"
          download="havrel.der"
        >
          <Download className="size-4" /> Download it
        </a>
        <Button onClick={() => setRenewing(true)}>Make a new one…</Button>
      </div>
      <Confirm
        open={renewing}
        title="Make a new certificate?"
        action="Make a new one"
        onConfirm={() => void renew()}
        onClose={() => setRenewing(false)}
      >
        <p>Every server with secured messages must then trust the new one; until it does, it refuses Havrel.</p>
      </Confirm>
    </section>
  );
}
