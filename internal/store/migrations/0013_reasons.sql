-- A reason is a value: a code with what its sentence tells of. What earlier versions kept as sentences stays readable.
UPDATE journal SET reason = json_object('code', 'said', 'with', json_array(reason, advice)) WHERE reason <> '' OR advice <> '';
ALTER TABLE journal DROP COLUMN advice;
UPDATE follow_ups SET reason = json_object('code', 'said', 'with', json_array(reason, advice)) WHERE reason <> '' OR advice <> '';
ALTER TABLE follow_ups DROP COLUMN advice;
UPDATE post SET reason = json_object('code', 'said', 'with', json_array(reason, advice)) WHERE reason <> '' OR advice <> '';
ALTER TABLE post DROP COLUMN advice;
UPDATE retries SET reason = json_object('code', 'said', 'with', json_array(reason, advice)) WHERE reason <> '' OR advice <> '';
ALTER TABLE retries DROP COLUMN advice;
