import { Badge, Button, HStack, Input, Stack, Text } from '@chakra-ui/react';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, ask, type Domain } from '../api/client';
import { people, plural } from '../lib/dates';
import { useChange } from '../lib/use-change';
import { useMe } from '../session/me';
import { Loading, Panel, Trouble } from '../ui/parts';
import { toaster } from '../ui/toaster';
import { DomainCheck } from './domain-check';

/** Domains are the mail domains of the workspace, and what lies in each. */
export function Domains() {
  const may = useMe().may.includes('change_domains');
  const list = useQuery({ queryKey: ['naming', 'domains'], queryFn: () => ask(api.GET('/api/v1/domains')) });
  const [name, setName] = useState('');
  const add = useChange(['naming', 'me'], () => ask(api.POST('/api/v1/domains', { body: { name } })), {
    onSuccess: (d) => {
      setName('');
      toaster.create({ type: 'success', title: `Addresses can lie in ${d.name} from now on` });
    },
  });
  return (
    <Panel title="Mail domains">
      <Stack gap="3">
        <Trouble error={list.error} retry={() => void list.refetch()} />
        {!list.data && !list.error && <Loading what="the domains" />}
        <Stack as="ul" gap="2" listStyleType="none">
          {list.data?.items.map((d) => (
            <One key={d.name} domain={d} may={may} />
          ))}
        </Stack>
        {may && (
          <HStack
            as="form"
            onSubmit={(e) => {
              e.preventDefault();
              add.mutate();
            }}
          >
            <Input
              size="sm"
              aria-label="Another mail domain"
              placeholder="islands.merrowline.example"
              value={name}
              onChange={(e) => setName(e.target.value)}
            />
            <Button
              size="sm"
              type="submit"
              variant="outline"
              colorPalette="ivy"
              disabled={name.trim() === ''}
              loading={add.isPending}
            >
              Add
            </Button>
          </HStack>
        )}
        <Trouble error={add.error} />
      </Stack>
    </Panel>
  );
}

function One({ domain: d, may }: { domain: Domain; may: boolean }) {
  const [open, setOpen] = useState(false);
  const params = { path: { name: d.name }, header: { 'If-Match': `"${d.version}"` } };
  const lead = useChange(['naming', 'me'], () => ask(api.PUT('/api/v1/domains/{name}/main', { params })));
  const retire = useChange(['naming', 'me'], () => ask(api.DELETE('/api/v1/domains/{name}', { params })));
  const inIt = [
    d.groups && plural(d.groups, 'group'),
    d.aliases && plural(d.aliases, 'alias', 'aliases'),
    d.people && people(d.people),
    d.former_addresses && plural(d.former_addresses, 'old address', 'old addresses'),
  ].filter(Boolean);
  return (
    <li>
      <HStack justify="space-between" align="start">
        <div>
          <Text fontSize="sm" fontWeight="600" overflowWrap="anywhere">
            {d.name} {d.main && <Badge colorPalette="ivy">main</Badge>}
          </Text>
          <Text fontSize="sm" color="fg.muted">
            {inIt.length ? inIt.join(', ') : 'Nothing lies in it.'}
          </Text>
        </div>
        <HStack wrap="wrap" justify="end">
          <Button
            size="xs"
            variant="outline"
            colorPalette="gray"
            aria-expanded={open}
            aria-label={`Check ${d.name}`}
            onClick={() => setOpen(!open)}
          >
            {open ? 'Close' : 'Check'}
          </Button>
          {may && !d.main && (
            <>
              <Button
                size="xs"
                variant="outline"
                colorPalette="gray"
                aria-label={`Make main: ${d.name}`}
                loading={lead.isPending}
                onClick={() => lead.mutate()}
              >
                Make main
              </Button>
              {inIt.length === 0 && (
                <Button
                  size="xs"
                  variant="outline"
                  colorPalette="red"
                  aria-label={`Retire ${d.name}`}
                  loading={retire.isPending}
                  onClick={() => retire.mutate()}
                >
                  Retire
                </Button>
              )}
            </>
          )}
        </HStack>
      </HStack>
      <Trouble error={lead.error ?? retire.error} />
      {open && <DomainCheck name={d.name} may={may} />}
    </li>
  );
}
