/** Correlation by lag as stems, with the band that noise stays in; whole seasons stand out. Pure. */
import { type Colours, tooltip } from './colours';
import { band } from './series';

type Value = number | null;

export function stemOptions(
  values: Value[],
  noise: number | null,
  season: number,
  name: string,
  colours: Colours,
) {
  const n = values.length;
  const lags = values.map((_, i) => String(i + 1));
  const far = Math.max(noise ?? 0, ...values.map((v) => Math.abs(v ?? 0)));
  const limit = Math.min(1, Math.ceil(far * 10 + 0.5) / 10);
  const whole = (lag: number) => season > 1 && lag % season === 0;
  const step = season > 1 && n > 1.5 * season ? season : n > 60 ? 10 : 5;
  return {
    grid: { left: 44, right: 12, top: 10, bottom: 26 },
    tooltip: { ...tooltip(colours, 3), trigger: 'axis' },
    xAxis: {
      type: 'category',
      data: lags,
      axisLine: { lineStyle: { color: colours.second }, onZero: true },
      axisTick: { show: false },
      axisLabel: {
        color: colours.second,
        interval: (i: number) => (i + 1) % step === 0,
        showMaxLabel: false,
      },
    },
    yAxis: {
      type: 'value',
      min: -limit,
      max: limit,
      splitNumber: 4,
      axisLabel: { color: colours.second },
      splitLine: { lineStyle: { color: colours.rule } },
    },
    series: [
      ...(noise === null
        ? []
        : [
            band(
              {
                start: 0,
                low: values.map(() => -noise),
                high: values.map(() => noise),
                colour: colours.spreadOuter,
              },
              1,
            ),
          ]),
      {
        name,
        type: 'bar',
        z: 4,
        barWidth: n > 80 ? 2 : 3,
        data: values.map((value, i) => ({
          value,
          itemStyle: {
            color:
              whole(i + 1) || Math.abs(value ?? 0) > (noise ?? Number.POSITIVE_INFINITY)
                ? colours.ink
                : colours.second,
          },
        })),
      },
    ],
  };
}

/** p-values of Ljung-Box by number of lags, against the line under which it is not noise. */
export function boxOptions(p: Value[], colours: Colours) {
  const lags = p.map((_, i) => String(i + 1));
  return {
    grid: { left: 44, right: 12, top: 10, bottom: 26 },
    tooltip: { ...tooltip(colours, 3), trigger: 'axis' },
    xAxis: {
      type: 'category',
      data: lags,
      axisLine: { lineStyle: { color: colours.second } },
      axisTick: { show: false },
      axisLabel: { color: colours.second, interval: (i: number) => (i + 1) % 10 === 0 },
    },
    yAxis: {
      type: 'value',
      min: 0,
      max: 1,
      interval: 0.25,
      axisLabel: { color: colours.second },
      splitLine: { lineStyle: { color: colours.rule } },
    },
    series: [
      band({ start: 0, low: p.map(() => 0), high: p.map(() => 0.05), colour: colours.spreadInner }, 1),
      {
        name: 'p-value',
        type: 'scatter',
        symbolSize: 4,
        z: 4,
        data: p.map((value) => ({
          value,
          itemStyle: { color: value !== null && value < 0.05 ? colours.brick : colours.ink },
        })),
      },
    ],
  };
}
