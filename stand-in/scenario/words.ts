/** Lines that the demo's mail is made of. All of it is invented. */

export const LETTER_LINES = [
  'I walked past plot 41 this morning and the gate was open again.',
  'Could you put it on the agenda for the next meeting?',
  'The water butt behind the shed has cracked in the frost.',
  'We counted nine people at the work day, which is not bad for a wet one.',
  'If nobody objects I will order the gravel on Monday.',
  'The rhubarb is taking over and would be glad of a new home.',
  'Thank you for the minutes, one small correction below.',
  'I can bring the long ladder, but somebody has to drive.',
  'The hedge along the lane must be cut before the birds come back.',
  'Attached is what I have so far, please look it over.',
  'My neighbour says the boundary ran along the old ditch.',
  'Shall we say ten past six, at the hut?',
  'The key to the store is with Hetty until the weekend.',
  'It would be a pity to lose the old pear tree.',
  'I have paid the rent for both plots, the receipt is somewhere.',
  '',
  'Nobody has claimed the green wheelbarrow yet.',
  'The slugs have had the lettuces, all of them, in one night.',
  'Do you still have the drawing of the drainage from the year of the flood?',
  'We should thank the people who lent us the marquee.',
  'As to the waiting list, there are four new names on it.',
  'The compost delivery came a day early and blocks the turning place.',
  'I am away for two weeks, Rowan looks after the greenhouse.',
  'Let me know what you think.',
];

export const NOTICE_LINES = [
  'Wind south-west, 3 to 4, gusts of 6 in the afternoon.',
  'Soil temperature at 10 cm: 11.2 degrees.',
  'Rain gauge: 2.4 mm since midnight.',
  'Humidity 81 percent, dew point 9.1 degrees.',
  'Battery of the outer sensor at 78 percent.',
  'Pressure 1013.6 hPa, falling slowly.',
  'No frost is expected tonight.',
  'Reading taken without an error.',
  'Sensor 4 did not answer, its last value stands.',
  'Ultraviolet index 3, moderate.',
];

export const LIST_LINES = [
  'On the third frame the queen was laying well, plenty of eggs.',
  'Has anybody tried the new floor with the wider mesh?',
  'I would not open them below twelve degrees.',
  'We lost two colonies this winter, both of them light.',
  'The lime trees are early and the supers are filling.',
  'Treat after the last harvest, never before.',
  'A swarm came into the old chimney again, third year running.',
  'The sheet under the hive told me more than the hive did.',
  'Ours are building comb in the lid, which is my own fault.',
  'Sugar prices being what they are, I left them more honey.',
  'There is an empty hive at the north hedge if anybody needs it.',
  '',
];

export const OFFER_LINES = [
  '<tr><td class="cell" style="padding:12px 18px;font-size:15px;line-height:22px;color:#333333">Twelve new varieties, all of them tried on heavy soil.</td></tr>',
  '<tr><td class="cell" style="padding:12px 18px;font-size:15px;line-height:22px;color:#333333">Order before the end of the month and carriage is free.</td></tr>',
  '<tr><td align="center" bgcolor="#f7f4ea" style="padding:24px 18px 24px 18px;border-bottom:1px solid #dddddd">&nbsp;</td></tr>',
  '<tr><td><img src="https://pictures.example/p/plate.jpg" width="560" height="320" alt="A plate of bulbs" style="display:block;border:0"></td></tr>',
  '<tr><td class="price" style="font-weight:bold;font-size:21px;line-height:26px;color:#1f5f2f">from 3.80 the packet</td></tr>',
  '<div style="max-width:600px;margin:0 auto;font-family:sans-serif;font-size:13px;line-height:20px">Our catalogue in print is still free of charge.</div>',
  '<p style="margin:0 0 14px 0;font-family:sans-serif;font-size:14px;line-height:21px">Gardeners who liked this also looked at the long-handled fork.</p>',
  '<table role="presentation" width="100%" cellpadding="0" cellspacing="0" border="0" style="border-collapse:collapse"><tbody>',
  '</tbody></table><!-- block ends -->',
];

export const FIRST_NAMES = ['Odile', 'Hetty', 'Tobin', 'Rowan', 'Maud', 'Edric', 'Linnea', 'Caspar', 'Ottilie', 'Piers', 'Sunniva', 'Abel',
  'Ginevra', 'Lorcan', 'Thea', 'Anselm', 'Bryony', 'Cuthbert', 'Dilys', 'Emrys', 'Fenella', 'Gwilym', 'Hester', 'Ivo', 'Jorun', 'Kester',
  'Leontine', 'Merrick', 'Nesta', 'Osric', 'Philippa', 'Quentin', 'Rosamund', 'Silas', 'Tamsin', 'Ulric', 'Verity', 'Wilfrid', 'Xanthe', 'Yorick'];

export const LAST_NAMES = ['Marchbanks', 'Quorn', 'Ashgrove', 'Pettifer', 'Larkspurn', 'Dunmoor', 'Fairweather', 'Holloway-Reed', 'Brackenbury',
  'Thistlewood', 'Marlowe-Finch', 'Cattermole', 'Sedgewick', 'Osgodby', 'Pennyfold', 'Wrenfield', 'Applegarth', 'Birkinshawe', 'Copperthwaite',
  'Drummersett', 'Elderfield', 'Furnivale', 'Greenhalgh', 'Hathersedge', 'Inglebrook', 'Jessamine', 'Kettlewell', 'Longstaffe', 'Mossgrove', 'Nightingall'];

export const SUBJECTS = {
  letters: ['Plot boundary', 'Key to the store', 'Rent for next year', 'Work day', 'The hedge along the lane', 'Gate left open', 'Waiting list question',
    'Minutes, a correction', 'Water on the lower plots', 'Old pear tree', 'Hut roof', 'Thank you', 'Compost delivery', 'Lost and found', 'Shared greenhouse'],
  committee: ['Agenda for the meeting', 'Drainage of the lower field', 'Budget, second draft', 'Insurance of the hut', 'Open day', 'New lease', 'Rules on bonfires',
    'Water meters', 'Fence on the north side', 'Bee stands', 'Accounts for the year', 'Letter to the council', 'Path repairs', 'Vacant plots'],
  bees: ['Queen not laying', 'Swarm season', 'Winter losses', 'Mites, counts', 'Which hive?', 'Lime flow', 'Feeding in autumn', 'Wasps', 'Honey prices', 'First inspection'],
  offers: ['Spring list is out', 'Bulbs to order now', 'Ten days of free carriage', 'New: long-handled tools', 'Last chance for seed potatoes', 'Your colour catalogue',
    'Polytunnels, everything', 'Autumn planting', 'Twelve varieties for heavy soil', 'Members save a tenth'],
  orders: ['Invoice', 'Order confirmed', 'Delivery note', 'Statement of account', 'Receipt'],
  council: ['Circular', 'Notice of works in the lane', 'Consultation', 'Agenda of the parish meeting', 'Flood watch', 'Refuse calendar'],
} as const;
