// What a tree of nodes and its parts are called, by what a connection offers.

import type { KindView } from '../../../parts/kinds';

/** Nodes of a server, metrics that edge nodes announce, topics that are heard, or what a program answers. */
const WORDS = {
  nodes: {
    one: 'node',
    peer: 'the server',
    tree: 'Nodes of the server',
    head: 'Node',
    last: 'Tag, or what the server says',
    find: 'words of name, description, id',
  },
  metrics: {
    one: 'device',
    peer: 'the edge nodes',
    tree: 'Edge nodes and their metrics',
    head: 'Edge node, device, metric',
    last: 'Tag, or what its birth tells',
    find: 'words of name, description',
  },
  topics: {
    one: 'topic',
    peer: 'the broker',
    tree: 'Topics heard',
    head: 'Topic',
    last: 'Tag, or messages',
    find: 'words of the topic',
  },
  answers: {
    one: 'member',
    peer: 'the program',
    tree: 'Answers of the program',
    head: 'Request and its answer',
    last: 'Tag, or time',
    find: 'words of path and member',
  },
};

/** The words for what a kind of connection offers. */
export const wordsOf = ({ announces, listens, tells }: KindView['can']) =>
  WORDS[announces ? 'metrics' : listens ? 'topics' : tells ? 'nodes' : 'answers'];
