import type { Ref } from 'vue'

import type { Schemas } from '../api/client'
import { TOOLS } from './tools'
import type { Elements } from './useElements'
import type { Placing } from './usePlacing'
import type { Shortcut } from './useShortcuts'
import type { Views } from './useViews'

interface Deeds {
  frame: Ref<number>
  go: (frame: number) => void
  toggle: () => void
  time: () => { first: number; last: number }
  see: (stage: string) => void
  judge: () => void
  rehearse: () => void
  hold: () => void
  curves: () => void
  isolate: () => void
  leave: () => void
  help: () => void
}

/** What keys do in the workspace, in the order in which the list of them has it. */
export function keyboard(
  stages: Schemas['StageCard'][],
  views: Views,
  placing: Placing,
  elements: Elements,
  deeds: Deeds,
): Shortcut[] {
  const { frame, go, time } = deeds
  return [
    ['Space', 'play or hold', deeds.toggle],
    [',', 'a frame back', () => go(frame.value - 1)],
    ['.', 'a frame on', () => go(frame.value + 1)],
    ['Home', 'first frame', () => go(time().first)],
    ['End', 'last frame', () => go(time().last)],
    ...stages
      .filter((s) => s.letter)
      .map((s): Shortcut => [s.letter, `see ${s.seen.toLowerCase()}`, () => deeds.see(s.name)]),
    ['j', 'judge this frame while settings change', deeds.judge],
    ['r', 'rehearse: see it coarsely while you edit', deeds.rehearse],
    ['h', 'hold what is judged or rehearsed, or go on', deeds.hold],
    ['w', 'see the whole domain', views.whole],
    ['4', 'see what is picked', views.near],
    ['5', 'see it from the front, without perspective', () => views.along('z')],
    ['6', 'from the side', () => views.along('x')],
    ['7', 'from above', () => views.along('y')],
    ['8', 'one, two or four views at once', views.more],
    ['9', 'the viewport on the whole screen', views.full],
    ['0', 'a figure of 1.75 m, or none', views.toggleFigure],
    ['c', 'look through the shot camera', views.through],
    ...TOOLS.map(([which, key, words]): Shortcut => [
      key,
      words.split(':')[0].toLowerCase(),
      () => placing.take(which),
    ]),
    ['1', 'move what is picked', () => placing.setWay('translate')],
    ['2', 'turn it', () => placing.setWay('rotate')],
    ['3', 'scale it', () => placing.setWay('scale')],
    ['l', 'along the axes of the scene, or its own', placing.toggleOwn],
    ['m', 'the curves of keys, or not', deeds.curves],
    ['k', 'record keys while moving, or not', placing.toggleRecording],
    ['a', 'see what is picked alone, or everything', deeds.isolate],
    ['q', 'put what is picked out of sight, or back', () => elements.flip('hidden')],
    ['z', 'lock what is picked, or unlock it', () => elements.flip('locked')],
    ['Delete', 'take out what is picked', () => elements.element.value !== null && elements.remove()],
    ['Escape', 'pick nothing', deeds.leave],
    ['?', 'this list', deeds.help],
  ]
}
