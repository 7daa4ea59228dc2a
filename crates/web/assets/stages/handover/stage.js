// The Handover stage.

export const handover = {
  key: 'handover',
  drawn: ['relief', 'streams', 'catchments', 'cells'],
  layers: [],
};
