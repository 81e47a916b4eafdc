-- The reports of many machines in PostgreSQL (12 or newer). "unicrux audit schema" prints this; it can be run again.
--
--     unicrux audit schema | psql inventory
--     cat reports/*/var/lib/unicrux/audit.json > all.ndjson
--     psql inventory -c "\copy unicrux_report (document) from 'all.ndjson' csv quote e'\x01' delimiter e'\x02'"
--     psql inventory -c "\copy unicrux_expected from 'machines.txt'"
--     psql inventory -c "select * from unicrux_silent"
--
-- Each line of the file is one report, as "audit --out" writes it. Reports may be loaded day after day: the views show
-- the newest of each machine, and unicrux_finding_over_time has all.

create table if not exists unicrux_report (
    document jsonb not null check (document ->> 'schema' = 'unicrux.audit/1'),
    loaded timestamptz not null default now()
);
create index if not exists unicrux_report_machine on unicrux_report ((document #>> '{machine,name}'));

-- The machines that should report.
create table if not exists unicrux_expected (machine text primary key);

-- The newest report of each machine. Two machines of one name are told apart by their numbers.
create or replace view unicrux_machine as
select distinct on (document #>> '{machine,name}', document #>> '{machine,id}')
    document #>> '{machine,name}' as machine,
    document #>> '{machine,id}' as machine_id,
    (document ->> 'when')::timestamptz as looked_at,
    (document ->> 'complete')::boolean as complete,
    document #>> '{program,version}' as program,
    document #>> '{policy,sha256}' as policy_sha256,
    document #>> '{applied,sha256}' as state_sha256,
    document
from unicrux_report
order by document #>> '{machine,name}', document #>> '{machine,id}', (document ->> 'when')::timestamptz desc;

create or replace view unicrux_silent as
select machine from unicrux_expected
where not exists (select from unicrux_machine where unicrux_machine.machine = unicrux_expected.machine);

create or replace view unicrux_finding as
select machine, machine_id, f ->> 'id' as id, f ->> 'code' as code, f ->> 'level' as level, f ->> 'person' as person,
    f ->> 'thing' as thing, f ->> 'detail' as detail, (f ->> 'since')::timestamptz as since,
    f -> 'excepted' <> 'null' as excepted
from unicrux_machine, jsonb_array_elements(document -> 'findings') as f;

create or replace view unicrux_key as
select machine, machine_id, h ->> 'person' as person, k ->> 'file_in_home' as file, k ->> 'fingerprint' as fingerprint,
    k ->> 'type' as type, (k ->> 'bits')::integer as bits, (k ->> 'has_passphrase')::boolean as has_passphrase,
    (k ->> 'modified')::timestamptz as modified, k -> 'known_at' as known_at
from unicrux_machine, jsonb_array_elements(document -> 'homes') as h, jsonb_array_elements(h -> 'keys') as k;

-- Keys that are on several machines.
create or replace view unicrux_copied_key as
select fingerprint, count(distinct (machine, machine_id)) as machines, array_agg(distinct machine) as names
from unicrux_key
where fingerprint is not null
group by fingerprint
having count(distinct (machine, machine_id)) > 1;

-- What ends, the soonest first.
create or replace view unicrux_ending as
select machine, h ->> 'person' as person, 'token' as what, t ->> 'name' as name, (t ->> 'until')::timestamptz as until
from unicrux_machine, jsonb_array_elements(document -> 'homes') as h, jsonb_array_elements(h -> 'tokens') as t
where t ->> 'until' is not null and not (t ->> 'renews')::boolean
union all
select machine, h ->> 'person', 'certificate', c ->> 'file_in_home', (c ->> 'until')::timestamptz
from unicrux_machine, jsonb_array_elements(document -> 'homes') as h, jsonb_array_elements(h -> 'certificates') as c
where c ->> 'until' is not null
order by until;

-- How many findings of each rule there were on each day, of all reports that were loaded.
create or replace view unicrux_finding_over_time as
select (document ->> 'when')::timestamptz::date as day, f ->> 'code' as code, count(*) as findings,
    count(distinct document #>> '{machine,name}') as machines
from unicrux_report, jsonb_array_elements(document -> 'findings') as f
group by 1, 2;
