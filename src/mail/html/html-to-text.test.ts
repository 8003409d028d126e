import assert from 'node:assert/strict';
import { test } from 'node:test';
import { textOfHtml } from './html-to-text';

test('what a person reads of an HTML document, with its entities', () => {
  const cases: [string, string][] = [
    ['<p>Dear&nbsp;members,</p><p>the beds are <b>dug</b>.</p>', 'Dear members,\n\nthe beds are dug.'],
    ['3 &lt; 4 &#38; 5 &#x3e; 4 &euro;5 &#8211; &mdash;', '3 < 4 & 5 > 4 €5 – —'],
    [
      '<head><title>No</title><style>p { color: red }</style></head>Yes<script>if (a < b) alert("</p>")</script>!',
      'Yes!',
    ],
    ['<style>never closed', ''],
    ['<head><meta charset=utf-8><body>Read', 'Read'],
    ['one<br>two<br/><br/><br/>three', 'one\ntwo\n\nthree'],
    ['<table><tr><td>Seed</td><td>2 kg</td></tr><tr><td>Soil</td></tr></table>', 'Seed 2 kg\n\nSoil'],
    ['<ul><li>spade<li>fork</ul>', 'spade\nfork'],
    ['<!-- not this --><![CDATA[nor this]]>but < this and <', 'but < this and <'],
    ['<p title="a > b">x</p>', 'x'],
    ['&#xD800;&#0;&#x110000;', '\ufffd\ufffd\ufffd'],
    ['', ''],
  ];
  for (const [html, text] of cases) assert.equal(textOfHtml(html), text, html);
});
