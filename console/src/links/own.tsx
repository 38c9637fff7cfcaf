import { useQuery } from '@tanstack/react-query';
import { useParams } from 'react-router';
import { api, ask } from '../api/client';
import { useChange } from '../lib/use-change';
import { OwnPart, type Own } from '../shared/own-part';
import { Frame } from '../ui/frame';
import { Loading, Trouble } from '../ui/parts';

/** OwnByLink lets somebody without an account decide about their own part in a group, by a link from a letter. */
export default function OwnByLink() {
  const { secret = '' } = useParams();
  const path = { secret };
  const read = useQuery({
    queryKey: ['joining', 'own', secret],
    queryFn: () => ask(api.GET('/api/v1/own/{secret}', { params: { path } })),
  });
  const change = useChange(['joining'], (what: Own) =>
    ask(api.POST('/api/v1/own/{secret}', { params: { path }, body: { do: what } })),
  );
  const p = change.data ?? read.data;
  return (
    <Frame width="34rem">
      <Trouble error={read.error} />
      {!p && !read.error && <Loading what="your part in the group" />}
      {p && <OwnPart part={p} change={change} />}
    </Frame>
  );
}
