-- A folder is known by its name as it goes on the wire, an octet a character: modified UTF-7 (RFC 3501 §5.1.3), which this
-- writes of the names that were kept decoded.

create function pg_temp.modified_utf7(name text) returns text language plpgsql as $$
declare
  written text := '';
  run     bytea := '';
  letter  text;
  code    int;
begin
  for letter in select unnest(string_to_array(name, null)) loop
    code := ascii(letter);
    if code between 32 and 126 then
      if length(run) > 0 then
        written := written || '&' || replace(rtrim(translate(encode(run, 'base64'), E'\n', ''), '='), '/', ',') || '-';
        run := '';
      end if;
      written := written || case letter when '&' then '&-' else letter end;
    elsif code < 65536 then
      run := run || substring(int4send(code) from 3);
    else
      -- A surrogate pair of UTF-16.
      run := run || substring(int4send(55296 + ((code - 65536) >> 10)) from 3)
                 || substring(int4send(56320 + ((code - 65536) & 1023)) from 3);
    end if;
  end loop;
  if length(run) > 0 then
    written := written || '&' || replace(rtrim(translate(encode(run, 'base64'), E'\n', ''), '='), '/', ',') || '-';
  end if;
  return written;
end $$;

update folder set server_name = pg_temp.modified_utf7(server_name) where server_name ~ '[^ -%''-~]';
