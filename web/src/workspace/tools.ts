import type { Tool } from './usePlacing'

/** Tools in their order: letter, words, drawing in a square of 20. */
export const TOOLS: [Tool, string, string, string][] = [
  [
    'inflow',
    'i',
    'Inflow: press an opening or a surface, drag its speed',
    'M4 3v5h6V3M7 9v2M7 13v4M4 10v3M10 10v3M14 6l3 3-3 3',
  ],
  ['fill', 'f', 'Fill: press inside of a vessel, drag the level', 'M4 3v14h12V3M4 9q3-2 6 0t6 0'],
  ['drop', 'd', 'Drop: press what it falls on, drag it up', 'M10 3q5 6 5 8a5 5 0 0 1-10 0q0-2 5-8M10 17v2'],
  ['box', 'b', 'Box: drag its base, pull its height', 'M3 7l7-4 7 4v7l-7 4-7-4zM3 7l7 4 7-4M10 11v7'],
  ['ramp', '/', 'Ramp: drag from its foot to its end, pull that up', 'M2 16h16V6zM2 16l16-10M14 16v-3'],
  ['sphere', 'o', 'Ball: drag its radius', 'M10 3a7 7 0 1 1 0 14a7 7 0 1 1 0-14M4 8q6 4 12 0'],
  ['tub', 'u', 'Tub: drag its radius, pull its height', 'M3 5v9q7 5 14 0V5M3 5q7 4 14 0M3 5q7-4 14 0'],
  [
    'tube',
    'n',
    'Pipe: drag its radius, pull its height',
    'M5 4v12M15 4v12M5 4q5 3 10 0M5 4q5-3 10 0M5 16q5 3 10 0',
  ],
  ['plane', 'g', 'Ground: press its height', 'M2 13l8-4 8 4-8 4z'],
  ['drain', 'x', 'Drain: drag its base, pull its height', 'M3 5h14l-5 6v6h-4v-6z'],
  [
    'wind',
    'v',
    'Wind: press, drag whither and how fast',
    'M2 7h9q4 0 4-2.500t-3-2M2 11h13q3 0 3 2.500t-3 2.500M2 15h7',
  ],
  ['vortex', 'y', 'Vortex: drag its reach, pull its strength', 'M10 10q2-2 3 1t-4 3t-5-5t7-5t7 6'],
  [
    'attraction',
    't',
    'Attraction: drag its reach, pull its strength',
    'M10 2v5M10 18v-5M2 10h5M18 10h-5M8.500 5.500l1.500 1.500l1.500-1.500M8.500 14.500l1.500-1.500l1.500 1.500M5.500 8.500l1.500 1.500l-1.500 1.500M14.500 8.500l-1.500 1.500l1.500 1.500',
  ],
  [
    'measure',
    'e',
    'Measure: press two points, a third for an angle',
    'M3 13L13 3l4 4L7 17zM6 10l2 2M9 7l2 2M12 4l2 2',
  ],
]
