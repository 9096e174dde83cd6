/** Dragging what stands in the calendar: along its row, by its middle or an edge. A press that does not move is a press. */
import { type PointerEvent, type SyntheticEvent, useRef, useState } from "react";
import type { Edge } from "./model";

/** A hand that shakes by so many pixels drags nothing. */
const SLACK = 4;

interface Drag {
  edge: Edge;
  dx: number;
}

/** `area` gives the width on which is dragged; `onDrop` gets how far, in pixels. */
export function useDrag(isMovable: boolean, onDrop: (edge: Edge, dx: number, width: number) => void) {
  const [drag, setDrag] = useState<Drag | null>(null);
  const held = useRef<{ x: number; width: number; edge: Edge; hasMoved: boolean } | null>(null);
  /** what was dragged was not pressed: the click that follows is none */
  const wasDragged = useRef(false);
  const handlers = (edge: Edge) => ({
    onPointerDown: (event: PointerEvent<HTMLElement>) => {
      wasDragged.current = false;
      const area = event.currentTarget.closest("[data-area]");
      if (!isMovable || event.button !== 0 || !area) return;
      event.stopPropagation();
      held.current = { x: event.clientX, width: area.getBoundingClientRect().width, edge, hasMoved: false };
      event.currentTarget.setPointerCapture(event.pointerId);
    },
    onPointerMove: (event: PointerEvent<HTMLElement>) => {
      if (!held.current) return;
      const dx = event.clientX - held.current.x;
      held.current.hasMoved = held.current.hasMoved || Math.abs(dx) > SLACK;
      if (held.current.hasMoved) setDrag({ edge: held.current.edge, dx });
    },
    onPointerUp: (event: PointerEvent<HTMLElement>) => {
      const from = held.current;
      held.current = null;
      setDrag(null);
      if (!from?.hasMoved) return;
      wasDragged.current = true;
      onDrop(from.edge, event.clientX - from.x, from.width);
    },
    onPointerCancel: () => {
      held.current = null;
      setDrag(null);
    },
    onClickCapture: (event: SyntheticEvent) => {
      if (!wasDragged.current) return;
      wasDragged.current = false;
      event.preventDefault();
      event.stopPropagation();
    },
    onDragStart: (event: SyntheticEvent) => event.preventDefault(),
  });
  return { drag, handlers };
}
