<?xml version="1.0" encoding="UTF-8"?>
<!-- What has to hold of a manifest beyond its structure. -->
<sch:schema xmlns:sch="http://purl.oclc.org/dsdl/schematron" queryBinding="xslt2">
  <sch:title>Manifests of Tern Isles Ferries</sch:title>
  <sch:ns prefix="m" uri="urn:tern-isles:manifest"/>
  <sch:ns prefix="v" uri="urn:tern-isles:vessel"/>
  <sch:ns prefix="c" uri="urn:tern-isles:crew"/>
  <sch:let name="limit" value="40000"/>
  <sch:pattern id="crew">
    <sch:rule context="v:vessel">
      <sch:assert test="count(c:crew/c:person[@rank = 'master']) = 1" diagnostics="who">
        The <sch:name/> <sch:value-of select="@id"/> needs one master.</sch:assert>
      <sch:let name="load" value="sum(v:deck/m:vehicle/m:weight)"/>
      <sch:report test="$load > $limit" role="warning">
        The <sch:name/> <sch:value-of select="@id"/> carries <sch:value-of select="$load"/> kg, and is built for <sch:value-of select="$limit"/>.</sch:report>
    </sch:rule>
    <sch:rule context="c:person[@rank = ('master', 'engineer')]">
      <sch:assert test="c:certificate" role="warning">
        <sch:value-of select="(c:name, 'A person without a name')[1]"/> is <sch:value-of select="@rank"/> and has no certificate.</sch:assert>
    </sch:rule>
  </sch:pattern>
  <sch:diagnostics>
    <sch:diagnostic id="who">there is: <sch:value-of select="c:crew/c:person/string-join((@rank, c:name), ' ')"/></sch:diagnostic>
  </sch:diagnostics>
</sch:schema>
