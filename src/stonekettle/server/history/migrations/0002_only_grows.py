from django.db import migrations

REFUSE = """
CREATE FUNCTION history_refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'the history only grows: deed % cannot be changed or deleted', OLD.id;
END $$;
CREATE TRIGGER history_only_grows BEFORE UPDATE OR DELETE ON history_deed
    FOR EACH ROW EXECUTE FUNCTION history_refuse_change();
"""
ALLOW = "DROP TRIGGER history_only_grows ON history_deed; DROP FUNCTION history_refuse_change();"


class Migration(migrations.Migration):
    dependencies = [("history", "0001_initial")]
    operations = [migrations.RunSQL(REFUSE, ALLOW)]
