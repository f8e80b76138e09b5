import { type ThemeConfig, theme } from 'antd';

export type Light = 'light' | 'dark';

/** The console's look: chart paper and ink by day, night watch by night; brass for what one acts on. */
export const palette = {
  light: {
    page: '#f4f1e8',
    sheet: '#fdfcf7',
    raised: '#fdfcf7',
    ink: '#1d2b36',
    faint: '#56636d',
    line: '#d8d2c1',
    brass: '#855708',
    tide: '#2b6a7c',
    alarm: '#a8321f',
  },
  dark: {
    page: '#101a21',
    sheet: '#182630',
    raised: '#213340',
    ink: '#e3e2da',
    faint: '#8d9aa3',
    line: '#2d3e4a',
    brass: '#d8a444',
    tide: '#6fb4c4',
    alarm: '#e2786a',
  },
} as const;

export function themeFor(light: Light): ThemeConfig {
  const colors = palette[light];
  return {
    algorithm: light === 'dark' ? theme.darkAlgorithm : theme.defaultAlgorithm,
    token: {
      colorPrimary: colors.brass,
      colorInfo: colors.tide,
      colorSuccess: colors.tide,
      colorError: colors.alarm,
      colorBgBase: colors.sheet,
      colorBgLayout: colors.page,
      colorBgContainer: colors.sheet,
      colorBgElevated: colors.raised,
      colorTextBase: colors.ink,
      // Fainter ones are below the contrast that WCAG 2.2 asks for (4.5:1).
      colorTextSecondary: colors.faint,
      colorTextTertiary: colors.faint,
      colorTextQuaternary: colors.faint,
      colorTextDescription: colors.faint,
      colorTextPlaceholder: colors.faint,
      colorBorder: colors.line,
      colorBorderSecondary: colors.line,
      colorLink: colors.brass,
      borderRadius: 2,
      fontFamily: "'Gill Sans', 'Trebuchet MS', 'DejaVu Sans', sans-serif",
      fontFamilyCode: "ui-monospace, 'DejaVu Sans Mono', monospace",
      fontSize: 14,
    },
    components: { Table: { headerBg: 'transparent', headerSplitColor: 'transparent', cellPaddingBlockSM: 7 } },
  };
}
