-- +goose Up
-- Metadata was kept as it travels: text beyond ASCII in encoded words (RFC 2047). It is kept as text.
-- +goose StatementBegin
create function read_words(p_value text) returns text language plpgsql immutable as $$
declare word text[]; out text := ''; rest text := p_value; at integer; whole text; bytes bytea; before text; last boolean := false;
begin
  loop
    word := regexp_match(rest, '=\?[uU][tT][fF]-8\?([bBqQ])\?([^?]*)\?=');
    exit when word is null;
    whole := substring(rest from '=\?[uU][tT][fF]-8\?[bBqQ]\?[^?]*\?=');
    at := position(whole in rest);
    before := left(rest, at - 1);
    -- White space between two words is none (section 6.2).
    if not (last and btrim(before, E' \t') = '') then out := out || before; end if;
    if lower(word[1]) = 'b' then
      bytes := decode(word[2], 'base64');
    else
      bytes := ''; word[2] := replace(word[2], '_', ' ');
      while word[2] <> '' loop
        if left(word[2], 1) = '=' then
          bytes := bytes || decode(substr(word[2], 2, 2), 'hex'); word[2] := substr(word[2], 4);
        else
          bytes := bytes || convert_to(left(word[2], 1), 'UTF8'); word[2] := substr(word[2], 2);
        end if;
      end loop;
    end if;
    out := out || convert_from(bytes, 'UTF8');
    rest := substr(rest, at + length(whole));
    last := true;
  end loop;
  out := out || rest;
  return case when out ~ E'[\\x01-\\x08\\x0A-\\x1F\\x7F]' then p_value else out end;
exception when others then
  return p_value; -- it is text that only looks so
end $$;
-- +goose StatementEnd
-- +goose StatementBegin
create function read_metadata(p_fields jsonb) returns jsonb language sql immutable as $$
  select jsonb_object_agg(key, read_words(value)) from jsonb_each_text(p_fields)
$$;
-- +goose StatementEnd
update heads set metadata = read_metadata(metadata) where metadata::text like '%=?%';
update history set metadata = read_metadata(metadata) where metadata::text like '%=?%';
update revisions set metadata = read_metadata(metadata) where metadata::text like '%=?%';
update uploads set metadata = read_metadata(metadata) where metadata::text like '%=?%';
drop function read_metadata(jsonb);
drop function read_words(text);
-- What find was built of is made anew.
delete from find_indexes;

-- +goose Down
select 1/0; -- older versions of the service would take text for what travels
