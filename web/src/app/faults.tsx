// The demo's faults: what can be made to go wrong in the simulated plant, and what is wrong now.

import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { http, take } from '../api/client';
import { useItems, useMay, useSession } from '../api/queries';
import { Button, Choice, DeskHead, Empty, Field, Trouble } from '../parts/ui';

type Fault = Record<string, string | number>;

const WIRES = [
  { controller: 'extraction', name: 'Extraction' },
  { controller: 'wash', name: 'Wash' },
];
const LENGTHS = [
  { seconds: 30, name: '30 s' },
  { seconds: 60, name: '1 min' },
  { seconds: 300, name: '5 min' },
  { seconds: 1800, name: '30 min' },
];

export function Faults() {
  const session = useSession();
  if (!session.data?.demo) {
    return (
      <Empty title="No simulated plant here">
        Faults can be ordered where the demo runs: start it with “./havrel demo”. This server watches a real plant.
      </Empty>
    );
  }
  return <Desk />;
}

function Desk() {
  const queries = useQueryClient();
  const may = useMay('engineer');
  const [seconds, setSeconds] = useState(60);
  const wrong = useQuery({ queryKey: ['faults'], queryFn: () => take(http.GET('/api/demo/faults')), refetchInterval: 1000 });
  const done = { onSettled: () => void queries.invalidateQueries({ queryKey: ['faults'] }) };
  const begin = useMutation({
    mutationFn: (fault: Fault) => take(http.POST('/api/demo/faults', { body: { ...fault, seconds } as never })),
    ...done,
  });
  const clear = useMutation({ mutationFn: () => take(http.POST('/api/demo/faults/clear')), ...done });
  const press = (label: string, fault: Fault) => (
    <Button key={label} disabled={!may} onClick={() => begin.mutate(fault)}>
      {label}
    </Button>
  );
  return (
    <div className="max-w-4xl">
      <DeskHead
        path="Demo"
        title="Simulate a fault"
        note="The simulated plant has the fault; Havrel detects it as it would in a real plant."
      >
        <span className="flex items-center gap-2">
          <label htmlFor="fault-lasts" className="text-soft">
            for
          </label>
          <Choice id="fault-lasts" className="w-24" value={seconds} onChange={(e) => setSeconds(Number(e.target.value))}>
            {LENGTHS.map((l) => (
              <option key={l.seconds} value={l.seconds}>
                {l.name}
              </option>
            ))}
          </Choice>
        </span>
        <Button disabled={!may || !wrong.data?.length} onClick={() => clear.mutate()}>
          End all
        </Button>
      </DeskHead>
      <section aria-label="Active faults" className="mb-4 min-h-16 rounded-md border border-line bg-raised px-3 py-2">
        <h2 className="font-semibold">Active faults</h2>
        {wrong.data?.length ? (
          <ul>
            {wrong.data.map((w) => (
              <li key={w.title} className="flex justify-between gap-4">
                <span>{w.title.charAt(0).toUpperCase() + w.title.slice(1)}</span>
                <span className="figures text-soft">another {Math.ceil(w.seconds)} s</span>
              </li>
            ))}
          </ul>
        ) : (
          <p className="text-soft">None. The simulated plant also has faults of its own now and then.</p>
        )}
      </section>
      <Trouble error={begin.error ?? clear.error ?? wrong.error} />
      {WIRES.map(({ controller, name }) => (
        <Group key={controller} title={`Controller ${name}`} note="on its wire">
          {press('Cut the cable', { fault: 'cut', controller })}
          {press('Answer 3 s late', { fault: 'delay', controller, ms: 3000 })}
          {press('Answer with exceptions', { fault: 'exception', controller })}
          {press('Answer too short', { fault: 'short', controller })}
        </Group>
      ))}
      <Group title="Server Dryline" note="on its wire and in it">
        {press('Cut the cable', { fault: 'server_cut' })}
        {press('Restart', { fault: 'server_restart' })}
        {press('Let the certificate expire', { fault: 'server_expired' })}
        {press('Show another certificate', { fault: 'server_renewed' })}
        {press('Trust no client', { fault: 'server_distrusts' })}
        {press('Refuse every login', { fault: 'server_locked' })}
        {press('Give no subscriptions', { fault: 'server_plain' })}
        {press('Five values a subscription', { fault: 'server_narrow' })}
        {press('Answer 0.6 s late', { fault: 'server_slow' })}
        {press('Renumber its namespaces', { fault: 'server_renumbered' })}
        {press('Fail the vibration sensor', { fault: 'server_bad', node: 'Drying.Mill.Vibration' })}
      </Group>
      <Group title="Broker Utilities" note="on its wire, and in what is sent">
        {press('Cut the cable', { fault: 'broker_cut' })}
        {press('Answer 0.6 s late', { fault: 'broker_slow' })}
        {press('Let the certificate expire', { fault: 'broker_expired' })}
        {press('Refuse every login', { fault: 'broker_locked' })}
        {press('Meter M2 sends half messages', { fault: 'meter_broken' })}
        {press('Meter M3 sends nothing', { fault: 'meter_silent' })}
        {press('Outside temperature is only retained', { fault: 'outside_retained' })}
      </Group>
      <Group title="Effluent station" note="on its wire, and in what it announces">
        {press('Cut its cable', { fault: 'station_cut' })}
        {press('Lose messages', { fault: 'station_gap' })}
        {press('Announce no devices', { fault: 'station_birthless' })}
        {press('Another one of its name', { fault: 'station_twin' })}
      </Group>
      <Group title="Weather and tariff" note="in what the program answers">
        {press('Not available', { fault: 'service_gone' })}
        {press('Send half answers', { fault: 'service_broken' })}
        {press('Take no token', { fault: 'service_locked' })}
      </Group>
      <Group title="Mail and web hook" note="where people and programs are told">
        {press('Mail server gone', { fault: 'mail_gone' })}
        {press('Mail server silent', { fault: 'mail_silent' })}
        {press('Knows nobody', { fault: 'mail_refuses' })}
        {press('Hook takes nothing', { fault: 'hook_closed' })}
      </Group>
      <Group title="Wash tanks" note="in the process">
        {[1, 2].map((tank) => press(`Trip pump ${tank}`, { fault: 'process', upset: 'pump_trip', tank }))}
        {[1, 2].map((tank) => press(`Blind filter ${tank}`, { fault: 'process', upset: 'blind_filter', tank }))}
      </Group>
      <Group title="Extraction vessels" note="at the pH probe">
        {[1, 2, 3, 4].map((vessel) => press(`EX-${vessel} drifts`, { fault: 'process', upset: 'ph_drift', vessel }))}
      </Group>
      <Group title="Mill, mains and hopper" note="in the process">
        {press('Jam the mill', { fault: 'process', upset: 'mill_jam' })}
        {press('Let the voltage be low', { fault: 'process', upset: 'voltage_dip' })}
        {press('Loosen the level probe of the hopper', { fault: 'process', upset: 'loose_cable' })}
      </Group>
      <Freeze may={may} onPress={(place, point) => begin.mutate({ fault: 'freeze', place, point })} />
    </div>
  );
}

function Group({ title, note, children }: { title: string; note: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="grid grid-cols-[13rem_1fr] items-baseline gap-x-4 border-t border-line py-2.5">
      <h2 className="font-semibold">
        {title} <span className="font-normal text-soft">{note}</span>
      </h2>
      <div className="flex flex-wrap items-center gap-2">{children}</div>
    </section>
  );
}

function Freeze({ may, onPress }: { may: boolean; onPress: (place: string, point: string) => void }) {
  const tags = useItems('tag').data?.items ?? [];
  const [picked, setPicked] = useState('');
  // The simulated plant knows its places without the site in front.
  const names = tags.filter((t) => t.set.unit !== '').map((t) => t.title.split('/').slice(1).join('/'));
  const chosen = picked || names[0] || '';
  const cut = chosen.lastIndexOf('/');
  return (
    <Group title="A sensor" note="keeps what it shows">
      <Field label="Sensor" className="w-80">
        {(p) => (
          <Choice {...p} value={chosen} onChange={(e) => setPicked(e.target.value)}>
            {names.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </Choice>
        )}
      </Field>
      <Button
        className="self-end"
        disabled={!may || cut < 0}
        onClick={() => onPress(chosen.slice(0, cut), chosen.slice(cut + 1))}
      >
        Freeze
      </Button>
    </Group>
  );
}
