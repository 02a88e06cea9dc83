/** A thin wrapper: options in, a canvas that fits its box, and a mark once it is painted. */
import { BarChart, CustomChart, LineChart, ScatterChart } from 'echarts/charts';
import { DataZoomComponent, GridComponent, TooltipComponent } from 'echarts/components';
import * as echarts from 'echarts/core';
import { CanvasRenderer } from 'echarts/renderers';
import { useEffect, useRef } from 'react';

echarts.use([
  BarChart,
  LineChart,
  ScatterChart,
  CustomChart,
  GridComponent,
  TooltipComponent,
  DataZoomComponent,
  CanvasRenderer,
]);

export type Options = echarts.EChartsCoreOption;
export type Instance = echarts.ECharts;

export const FONT = '"Source Sans 3 Variable", system-ui, sans-serif';

export function Chart({
  options,
  label,
  className,
  steady = false,
  onReady,
  onZoom,
}: {
  options: Options;
  label: string;
  className?: string;
  /** Options differ in their values alone, never in which series they have, so that the picture need not be made anew. */
  steady?: boolean;
  onReady?: (chart: Instance) => void;
  onZoom?: () => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  const chart = useRef<Instance | null>(null);
  const ready = useRef(onReady);
  const zoomed = useRef(onZoom);
  ready.current = onReady;
  zoomed.current = onZoom;
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const made = echarts.init(element, null, { renderer: 'canvas' });
    chart.current = made;
    made.on('finished', () => {
      element.dataset.painted = 'yes';
      ready.current?.(made);
    });
    made.on('datazoom', () => zoomed.current?.());
    const observer = new ResizeObserver(() => made.resize());
    observer.observe(element);
    return () => {
      observer.disconnect();
      made.dispose();
      chart.current = null;
    };
  }, []);
  useEffect(() => {
    if (box.current) delete box.current.dataset.painted;
    chart.current?.setOption(
      { textStyle: { fontFamily: FONT }, animation: false, ...options },
      { notMerge: !steady },
    );
  }, [options, steady]);
  return <div ref={box} role="img" aria-label={label} className={`chart ${className ?? ''}`} />;
}
